// The [training] table: budget, optimiser, schedule, loss, augmentation.
#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/plan/shared_tables.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

constexpr std::int64_t most_epochs = 100'000;
constexpr std::int64_t most_steps = 1'000'000'000;

void read_budget(TomlReader& reader, TrainingSettings& settings) {
    if (reader.has("epochs") && reader.has("steps"))
        throw InputError(fmt::format("{}: 'epochs' and 'steps' both say how long to train; leave one out",
                                     reader.place()));
    if (reader.has("epochs")) settings.steps = 0;
    settings.epochs = reader.integer("epochs", settings.epochs, 1, most_epochs);
    settings.steps = reader.integer("steps", settings.steps, 0, most_steps);
    settings.minutes = reader.number("minutes", settings.minutes, 0.0, 1e7);
    settings.validate_every = reader.integer("validate_every", settings.validate_every, 0, most_steps);
    settings.patience = reader.integer("patience", settings.patience, 0, most_epochs);
    settings.batch = reader.integer("batch", settings.batch, 1, 65'536);
    settings.fraction = reader.number("training_fraction", settings.fraction, 1e-6, 1.0);
}

// Keys that only some kinds know are refused for the others.
void refuse_keys(const TomlReader& reader, std::initializer_list<const char*> keys, const std::string& kind) {
    for (const char* key : keys)
        reader.at(key, [&] {
            if (reader.has(key)) throw InputError(fmt::format("{} has no '{}'", kind, key));
        });
}

OptimiserSettings read_optimiser(TomlReader reader, OptimiserSettings settings) {
    const std::string word = reader.text("kind", optimiser_name(settings.kind));
    const OptimiserKind kind = reader.at("kind", [&] { return optimiser_from_name(word); });
    // What was set for another kind means nothing to this one.
    if (kind != settings.kind) settings = OptimiserSettings::usual(kind);
    settings.learning_rate = reader.number("learning_rate", settings.learning_rate, 1e-9, 1000.0);
    settings.weight_decay = reader.number("weight_decay", settings.weight_decay, 0.0, 10.0);
    settings.momentum = reader.number("momentum", settings.momentum, 0.0, 0.9999);
    settings.nesterov = reader.truth("nesterov", settings.nesterov);
    settings.decoupled = reader.truth("decoupled", settings.decoupled);
    settings.beta1 = reader.number("beta1", settings.beta1, 0.0, 0.99999);
    settings.beta2 = reader.number("beta2", settings.beta2, 0.0, 0.9999999);
    settings.epsilon = reader.number("epsilon", settings.epsilon, 1e-16, 1.0);
    if (kind == OptimiserKind::sgd)
        refuse_keys(reader, {"beta1", "beta2", "epsilon"}, "sgd");
    else
        refuse_keys(reader, {"momentum", "nesterov", "decoupled"}, optimiser_name(kind));
    reader.at("nesterov", [&] {
        if (settings.nesterov && settings.momentum == 0.0)
            throw InputError("'nesterov' is a form of momentum, and 'momentum' is 0");
    });
    reader.finish();
    return settings;
}

Schedule read_schedule(TomlReader& reader, const Schedule& otherwise) {
    if (reader.holds_text("schedule")) {
        const std::string word = reader.text("schedule");
        return reader.at("schedule", [&] { return Schedule{.kind = schedule_from_name(word)}; });
    }
    auto table = reader.table("schedule");
    if (!table) return otherwise;
    Schedule s = otherwise;
    const std::string word = table->text("kind", schedule_name(s.kind));
    const ScheduleKind kind = table->at("kind", [&] { return schedule_from_name(word); });
    if (kind != s.kind) s = Schedule{.kind = kind};
    s.warm_up = table->number("warm_up", s.warm_up, 0.0, 1e5);
    s.final_share = table->number("final_share", s.final_share, 0.0, 1.0);
    s.every = table->integer("every", s.every, 1, most_epochs);
    s.factor = table->number("factor", s.factor, 1e-6, 1.0);
    s.patience = table->integer("patience", s.patience, 1, most_epochs);
    s.rise = table->number("rise", s.rise, 0.01, 0.99);
    s.first_share = table->number("first_share", s.first_share, 0.0, 1.0);
    const std::string name = "the schedule '" + schedule_name(kind) + "'";
    using K = ScheduleKind;
    if (kind == K::one_cycle) refuse_keys(*table, {"warm_up"}, name);
    if (kind != K::one_cycle) refuse_keys(*table, {"rise", "first_share"}, name);
    if (kind != K::step) refuse_keys(*table, {"every"}, name);
    if (kind != K::plateau) refuse_keys(*table, {"patience"}, name);
    if (kind != K::step && kind != K::plateau) refuse_keys(*table, {"factor"}, name);
    if (kind != K::linear && kind != K::cosine && kind != K::one_cycle)
        refuse_keys(*table, {"final_share"}, name);
    table->finish();
    return s;
}

LossSettings read_loss(TomlReader reader, LossSettings settings) {
    settings.label_smoothing = reader.number("label_smoothing", settings.label_smoothing, 0.0, 0.99);
    settings.focus = reader.number("focus", settings.focus, 0.0, 20.0);
    if (reader.holds_text("class_weights")) {
        const std::string word = reader.text("class_weights");
        reader.at("class_weights", [&] {
            if (word != "balanced" && word != "none")
                throw InputError(fmt::format(
                    "class_weights is '{}'; it may be \"balanced\", \"none\" or a table of weights by class",
                    printable(word)));
        });
        settings.balanced_classes = word == "balanced";
        settings.named_weights.clear();
    } else if (auto weights = reader.table("class_weights")) {
        settings.balanced_classes = false;
        settings.named_weights.clear();
        for (const std::string& name : weights->keys())
            settings.named_weights[name] = weights->number(name, std::nullopt, 0.0, 1e6);
        weights->finish();
    }
    reader.finish();
    return settings;
}

Json to_json(const OptimiserSettings& o) {
    Json json = {{"kind", optimiser_name(o.kind)},
                 {"learning_rate", o.learning_rate},
                 {"weight_decay", o.weight_decay}};
    if (o.kind == OptimiserKind::sgd) {
        json["momentum"] = o.momentum;
        json["nesterov"] = o.nesterov;
        json["decoupled"] = o.decoupled;
    } else {
        json["beta1"] = o.beta1;
        json["beta2"] = o.beta2;
        json["epsilon"] = o.epsilon;
    }
    return json;
}

Json to_json(const Schedule& s) {
    using K = ScheduleKind;
    Json json = {{"kind", schedule_name(s.kind)}};
    if (s.kind != K::one_cycle) json["warm_up"] = s.warm_up;
    if (s.kind == K::step) json["every"] = s.every;
    if (s.kind == K::step || s.kind == K::plateau) json["factor"] = s.factor;
    if (s.kind == K::plateau) json["patience"] = s.patience;
    if (s.kind == K::one_cycle) {
        json["rise"] = s.rise;
        json["first_share"] = s.first_share;
    }
    if (s.kind == K::linear || s.kind == K::cosine || s.kind == K::one_cycle)
        json["final_share"] = s.final_share;
    return json;
}

Json to_json(const LossSettings& l) {
    Json json = {{"label_smoothing", l.label_smoothing}, {"focus", l.focus}};
    if (l.named_weights.empty())
        json["class_weights"] = l.balanced_classes ? "balanced" : "none";
    else
        json["class_weights"] = l.named_weights;
    return json;
}

}  // namespace

TrainingSettings read_training(TomlReader reader, TrainingSettings settings,
                               const std::filesystem::path& file) {
    read_budget(reader, settings);
    if (auto table = reader.table("optimiser"))
        settings.optimiser = read_optimiser(*table, settings.optimiser);
    settings.schedule = read_schedule(reader, settings.schedule);
    if (auto table = reader.table("loss")) settings.loss = read_loss(*table, settings.loss);
    const std::string sampling = reader.text("sampling", sampling_name(settings.sampling));
    settings.sampling = reader.at("sampling", [&] { return sampling_from_name(sampling); });
    settings.gradient_limit = reader.number("gradient_limit", settings.gradient_limit, 0.0, 1e9);
    settings.averaging = reader.number("averaging", settings.averaging, 0.0, 0.999999);
    settings.augmentation = read_augmentation(reader, file, settings.augmentation);
    settings.views = reader.integer("views", settings.views, 0, 1000);
    reader.at("schedule", [&] {
        if (settings.steps == 0 && settings.schedule.warm_up >= static_cast<double>(settings.epochs))
            throw InputError(fmt::format("'warm_up' takes {} epochs and the run has {}",
                                         settings.schedule.warm_up, settings.epochs));
    });
    reader.at("views", [&] {
        if (settings.views > 0 && settings.augmentation.mixing.form != MixingForm::none)
            throw InputError("fixed 'views' of a picture cannot be mixed with other pictures; leave one out");
    });
    reader.finish();
    return settings;
}

Json to_json(const TrainingSettings& t) {
    Json json;
    if (t.steps > 0)
        json["steps"] = t.steps;
    else
        json["epochs"] = t.epochs;
    json["minutes"] = t.minutes;
    json["validate_every"] = t.validate_every;
    json["patience"] = t.patience;
    json["batch"] = t.batch;
    json["training_fraction"] = t.fraction;
    json["optimiser"] = to_json(t.optimiser);
    json["schedule"] = to_json(t.schedule);
    json["loss"] = to_json(t.loss);
    json["sampling"] = sampling_name(t.sampling);
    json["gradient_limit"] = t.gradient_limit;
    json["averaging"] = t.averaging;
    json["augment"] = to_json(t.augmentation);
    json["views"] = t.views;
    return json;
}

}  // namespace jevrin
