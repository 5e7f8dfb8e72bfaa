#include "jevrin/plan/plan.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/plan/axes.hpp"
#include "jevrin/plan/shared_tables.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <limits>
#include <set>

namespace jevrin {
namespace {

const std::array<std::string, 3> regime_names = {"scratch", "frozen", "partial"};

Regime regime_from_name(const std::string& name) {
    for (std::size_t i = 0; i < regime_names.size(); ++i)
        if (regime_names[i] == name) return static_cast<Regime>(i);
    throw InputError(fmt::format("regime is '{}'{}; it may be scratch, frozen or partial", printable(name),
                                 did_you_mean(name, regime_names)));
}

HeadSettings read_head(TomlReader reader) {
    HeadSettings head;
    head.hidden = reader.integers("hidden", 1, 65'536);
    head.activation = read_function(reader, "activation");
    head.dropout = reader.number("dropout", head.dropout, 0.0, 0.99);
    reader.finish();
    return head;
}

void read_last_layer(TomlReader& reader, Candidate& candidate) {
    const std::string stated = reader.text("last_layer", "trained");
    reader.at("last_layer", [&] {
        if (stated != "trained" && stated != "logistic regression")
            throw InputError(fmt::format(
                "last_layer is '{}'; it may be \"trained\" or \"logistic regression\"", printable(stated)));
        if (stated == "trained") return;
        candidate.last_layer = LastLayer::logistic_regression;
        candidate.training = {.epochs = 1, .fraction = candidate.training.fraction};
        if (candidate.regime != Regime::frozen || candidate.head_stated || reader.has("training"))
            throw InputError(
                "logistic regression works on the features of a frozen backbone and has neither 'head' nor "
                "'training'");
    });
    const bool solves = candidate.last_layer == LastLayer::logistic_regression;
    candidate.penalty = reader.number("penalty", candidate.penalty, 0.0, 1e9);
    reader.at("penalty", [&] {
        if (reader.has("penalty") && !solves) throw InputError("'penalty' belongs to logistic regression");
    });
}

// Everything about which weights train, and how fast.
void read_freezing(TomlReader& reader, Candidate& candidate) {
    candidate.train_from = reader.text("train_from", "");
    candidate.train_last = reader.integer("train_last", 0, 0, 10'000);
    candidate.train_share = reader.number("train_share", 0.0, 0.0, 1.0);
    candidate.head_first = reader.integer("head_first", 0, 0, 100'000);
    if (reader.has("unfreeze")) {
        for (TomlReader& table : reader.tables("unfreeze")) {
            Unfreezing step{table.integer("epoch", std::nullopt, 1, 100'000), table.text("from")};
            table.at("epoch", [&] {
                if (!candidate.unfreezing.empty() && candidate.unfreezing.back().epoch >= step.epoch)
                    throw InputError("the epochs of 'unfreeze' must rise");
            });
            table.finish();
            candidate.unfreezing.push_back(std::move(step));
        }
    } else {
        reader.mention("unfreeze");
    }
    const std::string mode = reader.text("normalisation", "adapting");
    candidate.normalisation = reader.at("normalisation", [&] {
        if (mode == "adapting") return NormalisationMode::adapting;
        if (mode == "fixed") return NormalisationMode::fixed;
        throw InputError(
            fmt::format("normalisation is '{}'; it may be \"adapting\" or \"fixed\"", printable(mode)));
    });
    if (auto factors = reader.table("learning_rate_factors")) {
        for (const std::string& stage : factors->keys())
            candidate.rate_factors.emplace_back(stage, factors->number(stage, std::nullopt, 0.0, 1000.0));
        factors->finish();
    }
}

void check_freezing(const TomlReader& reader, const Candidate& candidate) {
    const bool partial = candidate.regime == Regime::partial;
    const auto refuse = [&](const std::string& why) {
        throw InputError(fmt::format("{}: candidate '{}' {}", candidate.place, candidate.name, why));
    };
    int places = 0;
    for (const char* key : {"train_from", "train_last", "train_share", "unfreeze"}) {
        if (!reader.has(key)) continue;
        ++places;
        if (!partial)
            refuse(fmt::format("is {} and cannot have '{}'; only partial candidates have it",
                               regime_name(candidate.regime), key));
    }
    if (!partial && candidate.head_first > 0)
        refuse(fmt::format("is {} and cannot have 'head_first'; only partial candidates have it",
                           regime_name(candidate.regime)));
    if (partial && places != 1)
        refuse(
            "is partial and needs one of 'train_from' (the stage where training begins), 'train_last', "
            "'train_share' and 'unfreeze'");
    if (!candidate.unfreezing.empty() && candidate.head_first > 0)
        refuse(
            "has both 'unfreeze' and 'head_first'; give 'unfreeze' the epoch at which the first stage joins");
    if (partial && candidate.training.steps == 0 && candidate.head_first >= candidate.training.epochs)
        refuse("trains only its head in all of its epochs; make 'head_first' smaller, or the regime frozen");
    if (candidate.regime == Regime::scratch && candidate.training.views > 0)
        refuse("trains everything, so fixed 'views' spare it nothing; leave them to frozen and partial ones");
    if (candidate.regime != Regime::partial && reader.has("normalisation"))
        refuse("cannot have 'normalisation'; only partial candidates have a part of a backbone that trains");
}

Candidate read_candidate(TomlReader reader, const TrainingSettings& defaults,
                         const std::filesystem::path& file) {
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
    const std::string regime = reader.text("regime");
    candidate.regime = reader.at("regime", [&] { return regime_from_name(regime); });
    candidate.backbone = reader.text("backbone", "");
    read_freezing(reader, candidate);
    if (auto head = reader.table("head")) {
        candidate.head = read_head(*head);
        candidate.head_stated = true;
    }
    if (auto network = reader.table("network")) candidate.network = read_network(*network);
    if (auto training = reader.table("training"))
        candidate.training = read_training(*training, defaults, file);
    read_last_layer(reader, candidate);
    reader.finish();
    check_freezing(reader, candidate);
    if (candidate.regime != Regime::scratch && candidate.network)
        throw InputError(
            fmt::format("{}: candidate '{}' is {} and cannot have 'network': it uses the backbone's",
                        candidate.place, candidate.name, regime));
    if (candidate.network && !candidate.backbone.empty())
        throw InputError(fmt::format("{}: candidate '{}' has both 'network' and 'backbone'; leave one out",
                                     candidate.place, candidate.name));
    return candidate;
}

BackbonePlan read_backbone(TomlReader reader, const std::filesystem::path& file) {
    BackbonePlan backbone{.place = reader.place()};
    backbone.file = read_path(reader, "file", file);
    backbone.name = reader.text("name", "backbone");
    backbone.features = reader.text("features", "");
    backbone.scaling = read_scaling(reader);
    reader.finish();
    return backbone;
}

// [backbone], or several [[backbone]] with names.
std::vector<BackbonePlan> read_backbones(TomlReader& reader, const std::filesystem::path& file) {
    if (!reader.holds_list("backbone")) {
        auto one = reader.table("backbone");
        return one ? std::vector<BackbonePlan>{read_backbone(*one, file)} : std::vector<BackbonePlan>{};
    }
    std::vector<BackbonePlan> backbones;
    for (const TomlReader& table : reader.tables("backbone")) {
        backbones.push_back(read_backbone(table, file));
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
        refuse(fmt::format("names the backbone '{}'{}; there is {}", printable(candidate.backbone),
                           did_you_mean(candidate.backbone, names), fmt::join(names, ", ")));
}

void read_seeds(TomlReader& reader, std::vector<std::uint64_t>& seeds) {
    const auto stated = reader.integers("seeds", 0, std::numeric_limits<std::int32_t>::max());
    if (!reader.has("seeds")) return;
    reader.at("seeds", [&] {
        if (stated.empty()) throw InputError("'seeds' is empty; name at least one");
        if (std::set<std::int64_t>(stated.begin(), stated.end()).size() != stated.size())
            throw InputError("'seeds' names a seed twice");
    });
    seeds.assign(stated.begin(), stated.end());
}

// The candidate at a place of the plan, in all its variants. The text is read again for each, so that
// messages know where everything stands.
std::vector<Candidate> read_variants(std::string_view text, const std::filesystem::path& file,
                                     std::size_t place, const TrainingSettings& defaults) {
    const std::string name = printable(file.string());
    const auto table_in = [&](toml::table& document) -> toml::table& {
        return *document["candidate"].as_array()->get(place)->as_table();
    };
    toml::table document = parse_toml(text, file);
    TomlReader reader(table_in(document), name, "[[candidate]]");
    const auto vary = reader.table("vary");
    if (!vary) return {read_candidate(TomlReader(table_in(document), name, "[[candidate]]"), defaults, file)};
    const Axes axes = read_axes(*vary);
    std::vector<Candidate> variants;
    for (const std::vector<AxisValue>& combination : axes.combinations) {
        toml::table fresh = parse_toml(text, file);
        toml::table& table = table_in(fresh);
        const TomlReader places(table, name, "[[candidate]]");
        std::vector<VariedSetting> varied = apply_axes(axes, combination, table, places);
        Candidate candidate = read_candidate(places, defaults, file);
        candidate.varied = std::move(varied);
        candidate.name = fmt::format("{}: {}", candidate.origin, describe(candidate.varied));
        std::replace(candidate.name.begin(), candidate.name.end(), '/', '|');
        variants.push_back(std::move(candidate));
    }
    return variants;
}

}  // namespace

std::string regime_name(Regime regime) {
    return regime_names.at(static_cast<std::size_t>(regime));
}

Plan parse_plan(std::string_view text, const std::filesystem::path& file) {
    const std::string name = printable(file.string());
    const toml::table document = parse_toml(text, file);
    TomlReader reader(document, name, "the plan");
    Plan plan;
    plan.file = file;
    plan.name = reader.text("name");
    reader.at("name", [&] {
        if (plan.name.empty() || printable(plan.name) != plan.name)
            throw InputError("the plan's name is empty or holds control characters; choose another one");
    });
    read_seeds(reader, plan.seeds);
    const std::string metric = reader.text("metric", metric_name(plan.metric));
    plan.metric = reader.at("metric", [&] { return metric_from_name(metric); });
    auto images = reader.table("images");
    if (!images) throw InputError(fmt::format("{}:1:1: the plan needs [images]", name));
    plan.images = read_images(*images, file);
    TrainingSettings defaults;
    if (auto training = reader.table("training")) defaults = read_training(*training, defaults, file);
    plan.backbones = read_backbones(reader, file);
    const std::size_t count = reader.tables("candidate").size();
    for (std::size_t place = 0; place < count; ++place)
        for (Candidate& candidate : read_variants(text, file, place, defaults)) {
            for (const Candidate& other : plan.candidates)
                if (other.name == candidate.name)
                    throw InputError(fmt::format("{}: two candidates are called '{}'; names must differ",
                                                 candidate.place, candidate.name));
            settle_backbone(candidate, plan.backbones);
            plan.candidates.push_back(std::move(candidate));
        }
    reader.finish();
    return plan;
}

Plan read_plan(const std::filesystem::path& file) {
    return parse_plan(read_text(file), file);
}

Json resolved_settings(const Plan& plan, const Candidate& candidate) {
    Json json;
    json["regime"] = regime_name(candidate.regime);
    if (candidate.regime == Regime::partial) {
        if (!candidate.train_from.empty()) json["train_from"] = candidate.train_from;
        if (candidate.train_last > 0) json["train_last"] = candidate.train_last;
        if (candidate.train_share > 0) json["train_share"] = candidate.train_share;
        for (const Unfreezing& step : candidate.unfreezing)
            json["unfreeze"].push_back({{"epoch", step.epoch}, {"from", step.from}});
        json["head_first"] = candidate.head_first;
        json["normalisation"] = candidate.normalisation == NormalisationMode::fixed ? "fixed" : "adapting";
    }
    for (const auto& [stage, factor] : candidate.rate_factors) json["learning_rate_factors"][stage] = factor;
    if (candidate.network) json["network"] = to_json(*candidate.network);
    for (const BackbonePlan& backbone : plan.backbones)
        if (backbone.name == candidate.backbone && !backbone.features.empty())
            json["features"] = backbone.features;
    if (candidate.last_layer == LastLayer::logistic_regression) {
        json["last_layer"] = "logistic regression";
        json["penalty"] = candidate.penalty;
    }
    json["head"] = {{"hidden", candidate.head.hidden},
                    {"activation", function_name(candidate.head.activation)},
                    {"dropout", candidate.head.dropout}};
    json["images"] = to_json(plan.images);
    json["training"] = to_json(candidate.training);
    json["metric"] = metric_name(plan.metric);
    return json;
}

}  // namespace jevrin
