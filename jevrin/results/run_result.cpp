#include "jevrin/results/run_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/results/runs_result.hpp"

#include <fmt/format.h>

#include <cmath>

namespace jevrin::inline v1 {
namespace {

Json to_json(const LayerSummary& layer) {
    return {{"layer", layer.layer},
            {"weight_norm", layer.weight_norm},
            {"gradient_norm", layer.gradient_norm},
            {"update_ratio", layer.update_ratio},
            {"dead_fraction", layer.dead_fraction < 0 ? Json() : Json(layer.dead_fraction)},
            {"learning_rate", layer.learning_rate}};
}

// Lines that a plan may begin with.
std::string comment(const std::string& text) {
    return "# " + printable(text) + "\n";
}

std::string environment_lines(const std::string& environment) {
    const Json json = parse_json(environment);
    if (!json.is_object() || json.empty()) return comment("the environment of training is not recorded");
    std::string libraries;
    const Json versions = json.value("libraries", Json::object());
    for (const auto& [name, version] : versions.items())
        libraries += fmt::format("{}{} {}", libraries.empty() ? "" : ", ", name, version.get<std::string>());
    return comment(fmt::format("trained by Jevrin {} (compiler {}) on {}, {} of {} processors",
                               json.value("jevrin", "?"), json.value("compiler", "?"),
                               json.value("processor", "?"), json.value("threads", 0),
                               json.value("cores", 0))) +
           comment("with " + libraries);
}

}  // namespace

namespace {

// A run without a plan: what it states.
std::string external_text(const RunResult& result) {
    const RunRecord& run = result.run;
    std::string text =
        fmt::format("{} of study '{}': {}, {} of {}{}\n", printable(run.name()), printable(result.study.name),
                    spoken_state(run), run.epochs, plural(run.planned_epochs, "epoch"),
                    run.best ? fmt::format(", best at epoch {}", run.best->epoch) : "");
    const auto line = [&](const char* name, const std::string& value) {
        if (!value.empty()) text += fmt::format("{:<12}{}\n", name, printable(value));
    };
    line("program", run.external->program);
    line("hardware", run.external->hardware);
    line("regime", name_of(run.regime));
    if (run.parameters > 0)
        line("parameters", fmt::format("{}, of which {} are trained", with_commas(run.parameters),
                                       with_commas(run.trainable_parameters)));
    if (!std::isnan(run.seconds)) line("training", spoken_seconds(run.seconds));
    line("settings", result.settings == "{}" ? "" : result.settings);
    if (run.state == RunState::unverified)
        text += "it came without predictions: its scores are what it claims\n";
    for (const WarningRecord& warning : result.warnings)
        text += fmt::format("warning at epoch {}: {}\n", warning.epoch, printable(warning.message));
    return text + test_look_line(result.looks);
}

}  // namespace

RunResult report_run(const Ledger& ledger, const StudyRecord& study, const std::string& run,
                     std::optional<std::int64_t> epoch) {
    RunResult result{.study = study,
                     .looks = ledger.test_looks(study.id),
                     .run = ledger.run(study.id, run),
                     .plan = {},
                     .settings = {},
                     .environment = {},
                     .layers = {},
                     .warnings = {}};
    const RunRecord& record = result.run;
    result.epoch = epoch.value_or(record.epochs);
    if (result.epoch > record.epochs)
        throw InputError(fmt::format("{} has {}; there is no epoch {}", record.name(),
                                     plural(record.epochs, "epoch"), result.epoch));
    result.plan = ledger.plan(record.id);
    result.settings = ledger.settings(record.id);
    result.environment = ledger.environment(record.id);
    result.layers = ledger.layers(record.id, result.epoch);
    result.warnings = ledger.warnings(record.id);
    return result;
}

std::string to_json(const RunResult& result) {
    Json json = {{"run", result.run.name()},
                 {"state", name_of(result.run.state)},
                 {"external", external_json(result.run.external)},
                 {"image_set_version", result.run.image_set_version},
                 {"plan", result.plan},
                 {"settings", parse_json(result.settings)},
                 {"environment", parse_json(result.environment)},
                 {"epoch", result.epoch},
                 {"layers", Json::array()},
                 {"warnings", Json::array()},
                 {"test_looks", result.looks.size()}};
    for (const LayerSummary& layer : result.layers) json["layers"].push_back(to_json(layer));
    for (const WarningRecord& warning : result.warnings)
        json["warnings"].push_back({{"epoch", warning.epoch}, {"message", warning.message}});
    return document(json);
}

std::string to_text(const RunResult& result, const TextForm&) {
    const RunRecord& run = result.run;
    const StudyRecord& study = result.study;
    if (run.external) return external_text(result);
    if (result.plan.empty())
        throw InputError(fmt::format(
            "the plan of {} is not recorded: it was trained by a version that did not record plans",
            run.name()));
    std::string text = comment(fmt::format(
        "{} of study '{}': {}, {} of {} epochs{}", run.name(), study.name, spoken_state(run), run.epochs,
        run.planned_epochs, run.best ? fmt::format(", best at epoch {}", run.best->epoch) : ""));
    text += comment(fmt::format("images: version {} of {}; the ledger stores the split: "
                                "train with this ledger, or a copy of it, to repeat the run exactly",
                                run.image_set_version, study.image_root)) +
            environment_lines(result.environment);
    const std::string looks = test_look_line(result.looks);
    text += comment(looks.substr(0, looks.size() - 1));
    for (const WarningRecord& warning : result.warnings)
        text += comment(fmt::format("warning at epoch {}: {}", warning.epoch, warning.message));
    return text + "\n" + result.plan;
}

std::string layers_text(const RunResult& result, const TextForm& form) {
    if (result.layers.empty())
        throw InputError(fmt::format("nothing is recorded about the layers of {}", result.run.name()));
    ResultTable table({"layer", "weights", "gradient", "update", "dead units", "learning rate"},
                      {1, 2, 3, 4, 5});
    for (const LayerSummary& layer : result.layers)
        table.add({printable(layer.layer), fmt::format("{:.4g}", layer.weight_norm),
                   fmt::format("{:.3g}", layer.gradient_norm), fmt::format("{:.2e}", layer.update_ratio),
                   layer.dead_fraction < 0 ? "" : fmt::format("{:.0f} %", 100.0 * layer.dead_fraction),
                   fmt::format("{:.3g}", layer.learning_rate)});
    return fmt::format("{}, epoch {} of {}\n\n{}", result.run.name(), result.epoch, result.run.planned_epochs,
                       table.text(form.width)) +
           "weights, gradient: Euclidean norms; update: ratio of an update to the weights\n\n" +
           test_look_line(result.looks);
}

}  // namespace jevrin::inline v1
