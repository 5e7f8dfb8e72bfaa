#include "commands.hpp"
#include "output.hpp"
#include "runs_table.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct ShowOptions {
    LedgerOptions ledger;
    std::string run;
    bool layers = false;
    std::int64_t epoch = 0;
};

Json to_json(const LayerSummary& layer) {
    return {{"layer", layer.layer},
            {"weight_norm", layer.weight_norm},
            {"gradient_norm", layer.gradient_norm},
            {"update_ratio", layer.update_ratio},
            {"dead_share", layer.dead_share < 0 ? Json() : Json(layer.dead_share)},
            {"learning_rate", layer.learning_rate}};
}

std::string layer_table(const std::vector<LayerSummary>& layers) {
    Table table({"layer", "weights", "gradient", "update", "dead units", "learning rate"}, {1, 2, 3, 4, 5});
    for (const LayerSummary& layer : layers)
        table.add({printable(layer.layer), fmt::format("{:.4g}", layer.weight_norm),
                   fmt::format("{:.3g}", layer.gradient_norm), fmt::format("{:.2e}", layer.update_ratio),
                   layer.dead_share < 0 ? "" : fmt::format("{:.0f} %", 100.0 * layer.dead_share),
                   fmt::format("{:.3g}", layer.learning_rate)});
    return table.text() +
           "weights, gradient: Euclidean norms; update: change of a step as a share of the weights\n";
}

// Lines that a plan may begin with.
std::string comment(const std::string& text) {
    return "# " + printable(text) + "\n";
}

std::string environment_lines(const std::string& environment) {
    const Json json = parse_json(environment);
    if (!json.is_object() || json.empty()) return comment("where it was trained is not recorded");
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

void show(const ShowOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const RunRecord run = open.ledger.run(open.study.id, options.run);
    const std::int64_t epoch = options.epoch > 0 ? options.epoch : run.epochs;
    if (epoch > run.epochs)
        throw InputError(fmt::format("{} has {} epochs, and --epoch is {}", run.name(), run.epochs, epoch));
    const std::vector<LayerSummary> layers = open.ledger.layers(run.id, epoch);
    const std::string plan = open.ledger.plan(run.id);
    const std::string environment = open.ledger.environment(run.id);
    const std::vector<WarningRecord> warnings = open.ledger.warnings(run.id);
    if (options.ledger.json) {
        Json json = {{"run", run.name()},
                     {"state", name_of(run.state)},
                     {"image_set_version", run.image_set_version},
                     {"plan", plan},
                     {"settings", parse_json(open.ledger.settings(run.id))},
                     {"environment", parse_json(environment)},
                     {"epoch", epoch},
                     {"layers", Json::array()},
                     {"warnings", Json::array()},
                     {"test_looks", open.study.test_looks}};
        for (const LayerSummary& layer : layers) json["layers"].push_back(to_json(layer));
        for (const WarningRecord& warning : warnings)
            json["warnings"].push_back({{"epoch", warning.epoch}, {"message", warning.message}});
        print_json(json);
        return;
    }
    if (options.layers) {
        if (layers.empty())
            throw InputError(fmt::format("nothing is recorded about the layers of {}", run.name()));
        print(fmt::format("{}, epoch {} of {}\n\n{}\n{}", run.name(), epoch, run.planned_epochs,
                          layer_table(layers), test_look_line(open)));
        return;
    }
    if (plan.empty())
        throw InputError(
            fmt::format("the plan of {} is not recorded: it has not been trained since "
                        "plans are kept",
                        run.name()));
    std::string text = comment(fmt::format(
        "{} of study '{}': {}, {} of {} epochs{}", run.name(), open.study.name, spoken_state(run), run.epochs,
        run.planned_epochs, run.best ? fmt::format(", best at epoch {}", run.best->epoch) : ""));
    text +=
        comment(fmt::format("images: version {} of {}; pictures keep the places that this ledger knows: "
                            "train in it, or in a copy, to repeat the run exactly",
                            run.image_set_version, open.study.image_root));
    text += environment_lines(environment);
    const std::string looks = test_look_line(open);
    text += comment(looks.substr(0, looks.size() - 1));
    for (const WarningRecord& warning : warnings)
        text += comment(fmt::format("warning at epoch {}: {}", warning.epoch, warning.message));
    print(text + "\n" + plan);
}

}  // namespace

void add_show(Command& command) {
    auto options = std::make_shared<ShowOptions>();
    command.add_option("RUN", options->run, "the run, as CANDIDATE/SEED").required();
    command.add_flag("--layers", options->layers, "how its layers fared, instead of its plan");
    command.add_option("--epoch", options->epoch, "of this epoch (default: the last)")
        .type_name("N")
        .positive();
    add_ledger_options(command, options->ledger);
    command.callback([options] { show(*options); });
}

}  // namespace jevrin::app
