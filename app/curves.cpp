#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/comparison/evidence.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/figures/curves_figure.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct CurvesOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::vector<std::string> quantities;
    std::string over = name_of(CurveView{}.axis);
    CurveView view;
    std::int64_t at = 0;  // 0: no table
    std::filesystem::path figure;
    std::filesystem::path csv;
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
                                    {"accuracy", e.validation_scores.accuracy},
                                    {"balanced_accuracy", e.validation_scores.balanced_accuracy},
                                    {"macro_f1", e.validation_scores.macro_f1}}},
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
        run.name(), run.epochs, run.planned_epochs, spoken_metric(metric),
        score(run.best->validation, metric), run.best->epoch, last.training_loss, last.validation_loss);
}

// Every run at one epoch.
std::string table_at(const std::vector<RunCurves>& all, std::int64_t epoch) {
    Table table({"run", "epoch", "training loss", "validation loss", "accuracy", "balanced", "macro F1",
                 "learning rate", "seconds"},
                {1, 2, 3, 4, 5, 6, 7, 8});
    for (const RunCurves& curves : all) {
        double seconds = 0.0;
        const EpochRecord* found = nullptr;
        for (const EpochRecord& e : curves.epochs) {
            if (e.epoch > epoch) break;
            seconds += e.seconds;
            if (e.epoch == epoch) found = &e;
        }
        if (found == nullptr) {
            table.add({curves.run.name(), "-", "-", "-", "-", "-", "-", "-", "-"});
            continue;
        }
        table.add({curves.run.name(), std::to_string(epoch), three_decimals(found->training_loss),
                   three_decimals(found->validation_loss), three_decimals(found->validation_scores.accuracy),
                   three_decimals(found->validation_scores.balanced_accuracy),
                   three_decimals(found->validation_scores.macro_f1),
                   fmt::format("{:.3g}", found->learning_rate), fmt::format("{:.2f}", seconds)});
    }
    return table.text();
}

CurveView view_of(const CurvesOptions& options, Metric metric) {
    CurveView view = options.view;
    view.axis = value_named<CurveAxis>(options.over);
    view.quantities.clear();
    for (const std::string& name : options.quantities)
        view.quantities.push_back(value_named<CurveQuantity>(name));
    if (view.quantities.empty()) view.quantities = {CurveQuantity::loss, quantity_of(metric)};
    constexpr std::size_t most = 4;
    if (view.quantities.size() > most)
        throw InputError(fmt::format("{} quantities are too many for one picture; give at most {}",
                                     view.quantities.size(), most));
    return view;
}

void curves(const CurvesOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const CurveView view = view_of(options, open.study.metric);
    std::vector<RunCurves> all;
    for (const RunRecord& run : runs_called(open.ledger, open.study, options.runs))
        all.push_back(curves_of_run(open.ledger, run));
    const CandidateStyles styles(open.ledger.candidates(open.study.id));
    std::vector<std::filesystem::path> files;
    if (!options.figure.empty()) {
        draw_curves(all, view, styles,
                    all.size() == 1 ? fmt::format("{}: {}", open.study.name, all[0].run.name())
                                    : fmt::format("{}: {} runs", open.study.name, all.size()),
                    options.figure);
        files.push_back(options.figure);
    }
    if (!options.csv.empty()) {
        write_file(options.csv, curves_csv(all));
        files.push_back(options.csv);
    }
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
    if (options.at > 0) {
        print(table_at(all, options.at));
    } else {
        constexpr std::size_t most_lines = 40;
        for (std::size_t k = 0; k < std::min(most_lines, all.size()); ++k)
            print(summary_line(all[k], open.study.metric));
        if (all.size() > most_lines) print(fmt::format("... and {} more runs\n", all.size() - most_lines));
        print("\n" + terminal_curves(all, view, styles, terminal_width()));
    }
    print("\n" + test_look_line(open));
    print_written(files);
}

}  // namespace

void add_curves(Command& command) {
    auto options = std::make_shared<CurvesOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates (default: all)");
    command
        .add_option("--show", options->quantities,
                    "loss, objective, accuracy, balanced_accuracy, macro_f1, learning_rate; up to four "
                    "(default: loss and the plan's metric)")
        .type_name("NAME,...")
        .delimiter(',');
    command.add_option("--over", options->over, "what lies below: epoch, step, seconds or examples")
        .type_name("AXIS")
        .capture_default_str();
    command
        .add_option("--smooth", options->view.smoothing,
                    "weight of the epochs before; as it was stays faint behind")
        .type_name("0..1")
        .within(0.0, 0.99)
        .capture_default_str();
    command.add_flag("--log", options->view.log_scale, "values on a scale of powers");
    command.add_option("--at", options->at, "print the values of this epoch as a table instead")
        .type_name("EPOCH")
        .positive();
    add_picture_option(command, "--figure", options->figure, "draw them");
    add_table_option(command, options->csv, "write every epoch as a table");
    add_ledger_options(command, options->ledger);
    command.callback([options] { curves(*options); });
}

}  // namespace jevrin::app
