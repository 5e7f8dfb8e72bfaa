#include "output.hpp"

#include "jevrin/figures/curves_figure.hpp"
#include "jevrin/figures/training_sizes_figure.hpp"
#include "jevrin/results/curves_result.hpp"
#include "jevrin/results/training_sizes_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

// The x axis that has a point for each size of the training set instead of one for each epoch.
const std::string training_size = "training_size";

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

CurveView view_of(const CurvesOptions& options) {
    CurveView view = options.view;
    view.axis = value_named<CurveAxis>(options.over);
    view.quantities.clear();
    for (const std::string& name : options.quantities)
        view.quantities.push_back(value_named<CurveQuantity>(name));
    return view;
}

void curves(const CurvesOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const CurvesResult result = report_curves(open.ledger, open.study, options.runs, view_of(options));
    if (!options.figure.empty())
        draw_curves(result.curves, result.view, CandidateStyles(result.candidates), result.title(),
                    options.figure);
    write_table(options.csv, to_table(result));
    const Presentation how{.json = options.ledger.json, .written = {options.figure, options.csv}};
    if (options.at > 0)
        present(CurvesAtEpoch{.of = result, .epoch = options.at}, how);
    else
        present(result, how);
}

void curves_by_training_size(const CurvesOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const TrainingSizesResult result = report_training_sizes(open.ledger, open.study, options.runs);
    if (!options.figure.empty())
        draw_training_sizes(result.report, open.study.metric,
                            CandidateStyles(open.ledger.candidates(open.study.id)),
                            fmt::format("{}: score by training-set size", open.study.name), options.figure);
    write_table(options.csv, to_table(result));
    present(result, {.json = options.ledger.json, .written = {options.figure, options.csv}});
}

}  // namespace

void add_curves(Command& command) {
    auto options = std::make_shared<CurvesOptions>();
    add_runs_option(command, options->runs);
    std::vector<Option> by_epoch;
    by_epoch.push_back(
        command
            .add_option("--show", options->quantities,
                        "loss, objective, accuracy, balanced_accuracy, macro_f1, learning_rate; up to four "
                        "(default: loss and the plan's metric)")
            .type_name("NAME,...")
            .delimiter(','));
    command
        .add_option("--over", options->over,
                    "x axis: epoch, step, seconds, examples, or training_size: the best score by size of the "
                    "training set")
        .type_name("AXIS")
        .capture_default_str();
    by_epoch.push_back(
        command
            .add_option("--smooth", options->view.smoothing,
                        "smoothing factor of an exponential moving average; the raw curve is drawn faintly")
            .type_name("0..1")
            .within(0.0, 0.99)
            .capture_default_str());
    by_epoch.push_back(command.add_flag("--log", options->view.log_scale, "logarithmic y axis"));
    by_epoch.push_back(
        command.add_option("--at", options->at, "print the values of one epoch as a table instead")
            .type_name("EPOCH")
            .positive());
    add_figure_option(command, "--figure", options->figure, "draw the curves");
    add_table_option(command, options->csv, "write one row per epoch");
    add_ledger_options(command, options->ledger);
    command.callback([options, by_epoch] {
        if (options->over != training_size) return curves(*options);
        refuse_options(by_epoch, "does not apply to --over training_size");
        curves_by_training_size(*options);
    });
}

}  // namespace jevrin::app
