#include "jevrin/plan/plan.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/plan/axes.hpp"
#include "jevrin/plan/descriptions.hpp"
#include "jevrin/plan/toml.hpp"
#include "jevrin/training/descriptions.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <limits>
#include <set>

namespace jevrin::inline v1 {
namespace {

// Logistic regression is solved: it has neither a head nor a training of its own.
void settle_last_layer(const TableReader& reader, Candidate& candidate) {
    const bool solves = candidate.last_layer == LastLayer::logistic_regression;
    reader.at("last_layer", [&] {
        if (solves && (candidate.regime != Regime::frozen || reader.has("head") || reader.has("training")))
            throw InputError(
                "logistic regression works on the features of a frozen backbone and has neither 'head' nor "
                "'training'");
    });
    if (solves)
        candidate.training = {
            .epochs = 1, .fraction = candidate.training.fraction, .redraw = candidate.training.redraw};
}

void check_freezing(const TableReader& reader, const Candidate& candidate) {
    const bool partial = candidate.regime == Regime::partial;
    const auto refuse = [&](const std::string& why) {
        throw InputError(fmt::format("{}: candidate '{}' {}", candidate.place, candidate.name, why));
    };
    int places = 0;
    for (const char* key : {"train_from", "train_last", "train_fraction", "unfreeze"}) {
        if (!reader.has(key)) continue;
        ++places;
        if (!partial)
            refuse(fmt::format("is {} and cannot have '{}'; only partial candidates have it",
                               name_of(candidate.regime), key));
    }
    if (!partial && candidate.head_only_epochs > 0)
        refuse(fmt::format("is {} and cannot have 'head_only_epochs'; only partial candidates have it",
                           name_of(candidate.regime)));
    if (partial && places != 1)
        refuse(
            "is partial and needs one of 'train_from' (the stage where training begins), 'train_last', "
            "'train_fraction' and 'unfreeze'");
    if (!candidate.unfreezing.empty() && candidate.head_only_epochs > 0)
        refuse(
            "has both 'unfreeze' and 'head_only_epochs'; give 'unfreeze' the epoch at which the first stage "
            "joins");
    if (partial && candidate.training.steps == 0 && candidate.head_only_epochs >= candidate.training.epochs)
        refuse(
            "trains only its head in all of its epochs; make 'head_only_epochs' smaller, or the regime "
            "frozen");
    if (candidate.regime == Regime::scratch && candidate.training.views > 0)
        refuse(
            "trains all layers, so fixed 'views' save nothing; use them for frozen and partial candidates");
    if (candidate.regime != Regime::partial && reader.has("normalisation"))
        refuse("cannot have 'normalisation'; only partial candidates have a part of a backbone that trains");
}

Candidate read_candidate(TableReader reader, const TrainingSettings& defaults) {
    Candidate candidate;
    candidate.place = reader.place();
    candidate.training = defaults;
    candidate.name = reader.text("name");
    reader.at("name", [&] {
        if (candidate.name.empty() || candidate.name.find('/') != std::string::npos ||
            printable(candidate.name) != candidate.name)
            throw InputError(
                fmt::format("the candidate's name '{}' is empty, or holds '/' or control characters; choose "
                            "another one",
                            printable(candidate.name)));
    });
    candidate.origin = candidate.name;
    reader.mention("vary");
    candidate.backbone = reader.text("backbone", "");
    candidate.head_stated = reader.has("head");
    description_of(candidate).read_into(reader, candidate);
    reader.finish();
    settle_last_layer(reader, candidate);
    check_freezing(reader, candidate);
    if (candidate.regime != Regime::scratch && candidate.network)
        throw InputError(
            fmt::format("{}: candidate '{}' is {} and cannot have 'network': it uses the backbone's",
                        candidate.place, candidate.name, name_of(candidate.regime)));
    if (candidate.network && !candidate.backbone.empty())
        throw InputError(fmt::format("{}: candidate '{}' has both 'network' and 'backbone'; leave one out",
                                     candidate.place, candidate.name));
    return candidate;
}

BackbonePlan read_backbone(TableReader reader) {
    BackbonePlan backbone{.place = reader.place()};
    backbone.file = reader.path("file");
    backbone.name = reader.text("name", "backbone");
    backbone.features = reader.text("features", "");
    backbone.resample_positions = reader.boolean("resample_positions", false);
    reader.mention("scaling");
    if (reader.has("scaling")) backbone.scaling = read_scaling(reader, "scaling");
    reader.finish();
    return backbone;
}

// [backbone], or several [[backbone]] with names.
std::vector<BackbonePlan> read_backbones(TableReader& reader) {
    if (!reader.holds_list("backbone")) {
        auto one = reader.table("backbone");
        return one ? std::vector<BackbonePlan>{read_backbone(*one)} : std::vector<BackbonePlan>{};
    }
    std::vector<BackbonePlan> backbones;
    for (const TableReader& table : reader.tables("backbone")) {
        backbones.push_back(read_backbone(table));
        for (std::size_t i = 0; i + 1 < backbones.size(); ++i)
            if (backbones[i].name == backbones.back().name)
                throw InputError(
                    fmt::format("{}: two backbones are called '{}'; give each a 'name' of its own",
                                backbones.back().place, printable(backbones[i].name)));
    }
    return backbones;
}

// The backbone that a candidate names, or the only one there is.
void settle_backbone(Candidate& candidate, const std::vector<BackbonePlan>& backbones) {
    if (candidate.network) return;
    const auto refuse = [&](const std::string& why) {
        throw InputError(fmt::format("{}: candidate '{}' {}", candidate.place, candidate.name, why));
    };
    std::vector<std::string> names;
    for (const BackbonePlan& backbone : backbones) names.push_back(backbone.name);
    if (names.empty())
        refuse(fmt::format("needs [backbone] with a model file{}",
                           candidate.regime == Regime::scratch ? ", or a 'network' of its own" : ""));
    if (candidate.backbone.empty() && names.size() > 1)
        refuse(fmt::format("must say which 'backbone' it uses; there are {}", fmt::join(names, ", ")));
    if (candidate.backbone.empty()) candidate.backbone = names.front();
    if (std::find(names.begin(), names.end(), candidate.backbone) == names.end())
        refuse(fmt::format("names the backbone '{}'{}; there are {}", printable(candidate.backbone),
                           did_you_mean(candidate.backbone, names), fmt::join(names, ", ")));
}

constexpr std::size_t most_seeds = 1000;
constexpr std::size_t most_runs = 20'000;

// Each run takes its place in the ledger before the first is trained.
void require_few_runs(const Plan& plan) {
    const std::size_t folds = std::max<std::size_t>(1, plan.images.folds.size());
    const std::size_t runs = plan.candidates.size() * plan.seeds.size() * folds;
    if (runs > most_runs)
        throw InputError(
            fmt::format("{}: the plan has {} runs ({} candidates, {} seeds, {} folds); at most {} "
                        "are supported, so split it",
                        printable(plan.file.string()), runs, plan.candidates.size(), plan.seeds.size(), folds,
                        most_runs));
}

void read_seeds(TableReader& reader, std::vector<std::uint64_t>& seeds) {
    const auto stated = reader.integers("seeds", 0, std::numeric_limits<std::int32_t>::max());
    if (!reader.has("seeds")) return;
    reader.at("seeds", [&] {
        if (stated.empty()) throw InputError("'seeds' is empty; name at least one");
        if (std::set<std::int64_t>(stated.begin(), stated.end()).size() != stated.size())
            throw InputError("'seeds' names a seed twice");
        if (stated.size() > most_seeds)
            throw InputError(
                fmt::format("'seeds' names {} seeds; at most {} are supported", stated.size(), most_seeds));
    });
    seeds.assign(stated.begin(), stated.end());
}

// The candidate that a table describes, in all its variants.
std::vector<Candidate> read_variants(const SettingNode& table, const std::filesystem::path& file,
                                     const TrainingSettings& defaults) {
    TableReader reader(table, file, "[[candidate]]");
    const auto vary = reader.table("vary");
    if (!vary) return {read_candidate(TableReader(table, file, "[[candidate]]"), defaults)};
    const Axes axes = read_axes(*vary);
    std::vector<Candidate> variants;
    for (const std::vector<AxisValue>& combination : axes.combinations) {
        SettingNode variant = table;
        const TableReader places(variant, file, "[[candidate]]");
        std::vector<VariedSetting> varied = apply_axes(axes, combination, variant, places);
        Candidate candidate = read_candidate(places, defaults);
        candidate.varied = std::move(varied);
        candidate.name = fmt::format("{}: {}", candidate.origin, describe(candidate.varied));
        std::replace(candidate.name.begin(), candidate.name.end(), '/', '|');
        variants.push_back(std::move(candidate));
    }
    return variants;
}

}  // namespace

const EnumNames<Regime>& names_of(Regime) {
    static const EnumNames<Regime> names(
        "regime", {{Regime::scratch, "scratch"}, {Regime::frozen, "frozen"}, {Regime::partial, "partial"}});
    return names;
}

const EnumNames<LastLayer>& names_of(LastLayer) {
    static const EnumNames<LastLayer> names(
        "last_layer",
        {{LastLayer::trained, "trained"}, {LastLayer::logistic_regression, "logistic regression"}});
    return names;
}

const EnumNames<NormalisationMode>& names_of(NormalisationMode) {
    static const EnumNames<NormalisationMode> names(
        "normalisation", {{NormalisationMode::adapting, "adapting"}, {NormalisationMode::fixed, "fixed"}});
    return names;
}

Plan parse_plan(std::string_view text, const std::filesystem::path& file) {
    const std::string name = printable(file.string());
    const SettingNode document = parse_toml(text, file);
    TableReader reader(document, file, "the plan");
    Plan plan;
    plan.file = file;
    plan.text = text;
    plan.name = reader.text("name");
    reader.at("name", [&] {
        if (plan.name.empty() || printable(plan.name) != plan.name)
            throw InputError("the plan's name is empty or holds control characters; choose another one");
    });
    read_seeds(reader, plan.seeds);
    const std::string metric = reader.text("metric", name_of(plan.metric));
    plan.metric = reader.at("metric", [&] { return value_named<Metric>(metric); });
    plan.margin = reader.number("margin", plan.margin, 0.0001, 0.5);
    plan.most_seeds = reader.integer("most_seeds", plan.most_seeds, 1, std::int64_t{most_seeds});
    if (reader.has("most_seeds"))
        reader.at("most_seeds", [&] {
            if (plan.most_seeds < std::ssize(plan.seeds))
                throw InputError(fmt::format("'most_seeds' is {}, but the plan has {} seeds already",
                                             plan.most_seeds, plan.seeds.size()));
        });
    auto images = reader.table("images");
    if (!images) throw InputError(fmt::format("{}:1:1: the plan needs [images]", name));
    plan.images = read_images(*images);
    TrainingSettings defaults;
    if (auto training = reader.table("training")) defaults = read_settings(*training, defaults);
    plan.backbones = read_backbones(reader);
    for (const TableReader& table : reader.tables("candidate"))
        for (Candidate& candidate : read_variants(table.content(), file, defaults)) {
            for (const Candidate& other : plan.candidates)
                if (other.name == candidate.name)
                    throw InputError(fmt::format("{}: two candidates are called '{}'; names must differ",
                                                 candidate.place, candidate.name));
            settle_backbone(candidate, plan.backbones);
            plan.candidates.push_back(std::move(candidate));
        }
    reader.finish();
    require_few_runs(plan);
    return plan;
}

const Candidate& candidate_called(const Plan& plan, const std::string& name) {
    std::vector<std::string> names;
    for (const Candidate& candidate : plan.candidates) {
        if (candidate.name == name) return candidate;
        names.push_back(candidate.name);
    }
    throw InputError(fmt::format("{}: no candidate is called '{}'{}; there are {}",
                                 printable(plan.file.string()), printable(name), did_you_mean(name, names),
                                 fmt::join(names, ", ")));
}

Plan read_plan(const std::filesystem::path& file) {
    return parse_plan(read_text(file, largest_text_read), file);
}

}  // namespace jevrin::inline v1
