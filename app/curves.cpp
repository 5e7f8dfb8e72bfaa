#include "output.hpp"

#include "jevrin/figures/curves_figure.hpp"
#include "jevrin/results/curves_result.hpp"

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
    const Presentation how{
        .json = options.ledger.json, .form = form_for_terminal(), .written = {options.figure, options.csv}};
    if (options.at > 0)
        present(CurvesAtEpoch{.of = result, .epoch = options.at}, how);
    else
        present(result, how);
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
