#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/curves_figure.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct Options {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::filesystem::path figure;
};

Json to_json(const RunCurves& curves) {
    Json json = {{"run", curves.run.name()}, {"epochs", Json::array()}};
    for (const EpochRecord& e : curves.epochs)
        json["epochs"].push_back({{"epoch", e.epoch},
                                  {"step", e.step},
                                  {"training",
                                   {{"loss", e.training_loss},
                                    {"objective", e.objective},
                                    {"accuracy", e.training_accuracy},
                                    {"balanced_accuracy", e.training_balanced_accuracy},
                                    {"macro_f1", e.training_macro_f1}}},
                                  {"validation",
                                   {{"loss", e.validation_loss},
                                    {"accuracy", e.validation.accuracy()},
                                    {"balanced_accuracy", e.validation.balanced_accuracy()},
                                    {"macro_f1", e.validation.macro_f1()}}},
                                  {"learning_rate", e.learning_rate},
                                  {"seconds", e.seconds},
                                  {"data_seconds", e.data_seconds},
                                  {"compute_seconds", e.compute_seconds},
                                  {"validation_seconds", e.validation_seconds},
                                  {"memory_bytes", e.memory_bytes}});
    return json;
}

std::string summary_line(const RunCurves& curves, Metric metric) {
    const RunRecord& run = curves.run;
    if (!run.best) return fmt::format("{}: no epoch is finished yet\n", run.name());
    const EpochRecord& last = curves.epochs.back();
    return fmt::format(
        "{}: {} of {} epochs; best {} {:.3f} at epoch {}; last loss {:.3f} on training, {:.3f} on "
        "validation\n",
        run.name(), run.epochs, run.planned_epochs, metric_name(metric), score(run.best->validation, metric),
        run.best->epoch, last.training_loss, last.validation_loss);
}

void curves(const Options& options) {
    const OpenStudy open = open_study(options.ledger);
    std::vector<RunCurves> all;
    if (options.runs.empty())
        for (const RunRecord& run : open.ledger.runs(open.study.id))
            all.push_back({run, open.ledger.epochs(run.id)});
    for (const std::string& name : options.runs) {
        const RunRecord run = open.ledger.run(open.study.id, name);
        all.push_back({run, open.ledger.epochs(run.id)});
    }
    if (!options.figure.empty())
        draw_curves(all, open.study.metric,
                    all.size() == 1 ? fmt::format("{}: {}", open.study.name, all[0].run.name())
                                    : fmt::format("{}: {} runs", open.study.name, all.size()),
                    options.figure);
    if (options.ledger.json) {
        Json json = Json::array();
        const std::vector<TestLook> looks = open.ledger.test_looks(open.study.id);
        for (const RunCurves& run : all) {
            json.push_back(to_json(run));
            json.back()["test_looks"] = looks_with(looks, run.run.name());
        }
        print_json(json);
        return;
    }
    for (const RunCurves& run : all) print(summary_line(run, open.study.metric));
    print("\n" + terminal_curves(all, open.study.metric, terminal_width()));
    print("\n" + test_look_line(open));
    if (!options.figure.empty())
        print(fmt::format("figure written to {}\n", printable(options.figure.string())));
}

}  // namespace

void add_curves(CLI::App& app) {
    auto options = std::make_shared<Options>();
    auto* command = app.add_subcommand("curves", "training and validation curves of runs");
    command->add_option("RUN", options->runs, "runs as CANDIDATE/SEED (default: all)");
    command->add_option("--figure", options->figure, "draw them into a file (.png or .svg)")
        ->type_name("FILE");
    add_ledger_options(*command, options->ledger);
    command->callback([options] { curves(*options); });
}

}  // namespace jevrin::app
