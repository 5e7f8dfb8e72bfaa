#include "jevrin/plan/plan.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/plan/shared_tables.hpp"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

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

// What the table states replaces the settings given; the rest stays.
TrainingSettings read_training(TomlReader reader, TrainingSettings settings,
                               const std::filesystem::path& file) {
    settings.epochs = reader.integer("epochs", settings.epochs, 1, 100'000);
    settings.batch = reader.integer("batch", settings.batch, 1, 65'536);
    OptimiserSettings& optimiser = settings.optimiser;
    const std::string schedule = reader.text("schedule", schedule_name(optimiser.schedule));
    optimiser.schedule = reader.at("schedule", [&] { return schedule_from_name(schedule); });
    if (auto table = reader.table("optimiser")) {
        const std::string kind = table->text("kind", "sgd");
        table->at("kind", [&] {
            if (kind != "sgd")
                throw InputError(fmt::format("optimiser kind is '{}'; it may be sgd", printable(kind)));
        });
        optimiser.learning_rate = table->number("learning_rate", optimiser.learning_rate, 1e-9, 1000.0);
        optimiser.momentum = table->number("momentum", optimiser.momentum, 0.0, 0.9999);
        optimiser.weight_decay = table->number("weight_decay", optimiser.weight_decay, 0.0, 10.0);
        table->finish();
    }
    settings.augmentation = read_augmentation(reader, file, settings.augmentation);
    reader.finish();
    return settings;
}

HeadSettings read_head(TomlReader reader) {
    HeadSettings head;
    head.hidden = reader.integers("hidden", 1, 65'536);
    head.dropout = reader.number("dropout", head.dropout, 0.0, 0.99);
    reader.finish();
    return head;
}

ResidualSettings read_network(TomlReader reader) {
    ResidualSettings network;
    const std::string family = reader.text("family");
    reader.at("family", [&] {
        if (family != "residual")
            throw InputError(fmt::format("network family is '{}'; it may be residual", printable(family)));
    });
    const auto widths = reader.integers("widths", 1, 4096);
    if (reader.has("widths")) network.widths = widths;
    reader.at("widths", [&] {
        if (network.widths.empty() || network.widths.size() > 8)
            throw InputError("'widths' needs 1 to 8 stages");
    });
    network.blocks = reader.integer("blocks", network.blocks, 1, 64);
    network.stem_stride = reader.integer("stem_stride", network.stem_stride, 1, 4);
    reader.finish();
    return network;
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
    const std::string regime = reader.text("regime");
    candidate.regime = reader.at("regime", [&] { return regime_from_name(regime); });
    candidate.train_from = reader.text("train_from", "");
    if (auto head = reader.table("head")) candidate.head = read_head(*head);
    if (auto network = reader.table("network")) candidate.network = read_network(*network);
    if (auto training = reader.table("training"))
        candidate.training = read_training(*training, defaults, file);
    reader.finish();
    const bool partial = candidate.regime == Regime::partial;
    const auto refuse = [&](const std::string& why) {
        throw InputError(fmt::format("{}: candidate '{}' {}", candidate.place, candidate.name, why));
    };
    if (partial && candidate.train_from.empty())
        refuse("is partial and needs 'train_from', the stage where training begins");
    if (!partial && !candidate.train_from.empty())
        refuse(fmt::format("is {} and cannot have 'train_from'; only partial candidates have it", regime));
    if (candidate.regime != Regime::scratch && candidate.network)
        refuse(fmt::format("is {} and cannot have 'network': it uses the backbone's", regime));
    return candidate;
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
    if (auto backbone = reader.table("backbone")) {
        plan.backbone = read_path(*backbone, "file", file);
        backbone->finish();
    }
    std::set<std::string> names;
    for (const TomlReader& table : reader.tables("candidate")) {
        plan.candidates.push_back(read_candidate(table, defaults, file));
        const Candidate& candidate = plan.candidates.back();
        if (!names.insert(candidate.name).second)
            throw InputError(fmt::format("{}: two candidates are called '{}'; names must differ",
                                         candidate.place, candidate.name));
        if (!plan.backbone && !candidate.network)
            throw InputError(fmt::format(
                "{}: candidate '{}' needs [backbone] with a model file{}", candidate.place, candidate.name,
                candidate.regime == Regime::scratch ? ", or a 'network' of its own" : ""));
    }
    reader.finish();
    return plan;
}

Plan read_plan(const std::filesystem::path& file) {
    return parse_plan(read_text(file), file);
}

nlohmann::ordered_json resolved_settings(const Plan& plan, const Candidate& candidate) {
    const TrainingSettings& t = candidate.training;
    nlohmann::ordered_json json;
    json["regime"] = regime_name(candidate.regime);
    if (!candidate.train_from.empty()) json["train_from"] = candidate.train_from;
    if (candidate.network)
        json["network"] = {{"family", "residual"},
                           {"widths", candidate.network->widths},
                           {"blocks", candidate.network->blocks},
                           {"stem_stride", candidate.network->stem_stride}};
    json["head"] = {{"hidden", candidate.head.hidden}, {"dropout", candidate.head.dropout}};
    json["images"] = to_json(plan.images);
    json["training"] = {{"epochs", t.epochs},
                        {"batch", t.batch},
                        {"schedule", schedule_name(t.optimiser.schedule)},
                        {"optimiser",
                         {{"kind", "sgd"},
                          {"learning_rate", t.optimiser.learning_rate},
                          {"momentum", t.optimiser.momentum},
                          {"weight_decay", t.optimiser.weight_decay}}},
                        {"augment", to_json(t.augmentation)}};
    json["metric"] = metric_name(plan.metric);
    return json;
}

}  // namespace jevrin
