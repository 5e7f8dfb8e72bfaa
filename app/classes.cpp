#include "prediction_options.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/classes_figure.hpp"
#include "jevrin/figures/matrices_figure.hpp"
#include "jevrin/results/classes_result.hpp"
#include "jevrin/results/recall_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct ClassesOptions {
    std::vector<std::string> runs;
    PredictionOptions predictions;
    ClassesQuery query;
    std::optional<std::size_t> most;
    std::filesystem::path csv;
    std::filesystem::path figure;
};

// The images behind the strongest confusion.
std::string next_of(const ClassesResult& result) {
    const std::vector<Confusion> cells = strongest_confusions(result.matrix(), 1);
    if (cells.empty()) return "";
    const std::vector<std::string>& classes = result.of.classes();
    return fmt::format("next: jevrin mistakes {} --true {} --predicted {}\n",
                       shell_word(result.of.run.name()), shell_word(classes[cells[0].true_class]),
                       shell_word(classes[cells[0].predicted]));
}

void classes(const ClassesOptions& options) {
    require_columns(options.query);
    const OpenStudy open = open_study(options.predictions.ledger);
    const ClassesResult result = report_classes(open_predictions(open, options.predictions), options.query);
    write_table(options.csv, to_table(result));
    if (!options.figure.empty())
        draw_classes(result.scores, result.of.classes(), result.order, result.title(), options.figure);
    present(result, {.json = options.predictions.ledger.json,
                     .form = form_for_terminal(options.most),
                     .written = {options.csv, options.figure},
                     .next = next_of(result)});
}

void recalls(const ClassesOptions& options) {
    const OpenStudy open = open_study(options.predictions.ledger);
    const RecallResult result = report_recalls(open.ledger, open.study, options.runs);
    if (!options.figure.empty())
        draw_recalls(result.recalls, open.study.classes, CandidateStyles(result.candidates),
                     fmt::format("{}: recall of each class (items) by candidate", open.study.name),
                     options.figure);
    write_table(options.csv, to_table(result));
    present(result, {.json = options.predictions.ledger.json,
                     .form = form_for_terminal(options.most, "--csv FILE or --figure FILE for all"),
                     .written = {options.figure, options.csv}});
}

// A name with a slash is a run, CANDIDATE/SEED; without one it is a candidate.
bool is_one_run(const std::vector<std::string>& names) {
    return names.size() == 1 && names.front().find('/') != std::string::npos;
}

}  // namespace

void add_classes(Command& command) {
    auto options = std::make_shared<ClassesOptions>();
    command.add_option("RUN", options->runs,
                       "a run as CANDIDATE/SEED: all scores of each class; several runs or candidates "
                       "(default: all): recall of each class by candidate");
    std::vector<Option> of_one_run = {add_part_option(command, options->predictions.part),
                                      add_recorded_epoch_option(command, options->predictions.epoch)};
    Option columns =
        command
            .add_option("--columns", options->query.columns,
                        "support, correct, false_positives, false_negatives, precision, recall, f1, roc_auc, "
                        "average_precision")
            .type_name("NAME,...")
            .delimiter(',');
    Option sort =
        command.add_option("--sort", options->query.sort, "by a column, the weakest first, or by name")
            .type_name("NAME")
            .capture_default_str();
    Option reverse = command.add_flag("--reverse", options->query.reversed, "reverse the order");
    of_one_run.insert(of_one_run.end(), {columns, sort, reverse});
    command.add_option("--most", options->most, "rows to print (default: all)").type_name("N");
    add_table_option(command, options->csv, "write the table");
    add_figure_option(command, "--figure", options->figure, "draw recall and precision");
    add_ledger_options(command, options->predictions.ledger);
    command.callback([options, of_one_run] {
        if (!is_one_run(options->runs)) {
            refuse_options(of_one_run, "needs one run, as CANDIDATE/SEED");
            return recalls(*options);
        }
        options->predictions.run = options->runs.front();
        classes(*options);
    });
}

}  // namespace jevrin::app
