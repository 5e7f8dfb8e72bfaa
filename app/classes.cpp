#include "prediction_options.hpp"

#include "jevrin/figures/classes_figure.hpp"
#include "jevrin/results/classes_result.hpp"
#include "jevrin/results/words.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct ClassesOptions {
    PredictionOptions predictions;
    ClassesQuery query;
    std::optional<std::size_t> most;
    std::filesystem::path csv;
    std::filesystem::path figure;
};

// The pictures behind the strongest confusion.
std::string next_of(const ClassesResult& result) {
    const std::vector<Confusion> cells = strongest_confusions(result.matrix(), 1);
    if (cells.empty()) return "";
    const std::vector<std::string>& classes = result.of.classes();
    return fmt::format("next: jevrin mistakes {} --true {} --called {}\n", shell_word(result.of.run.name()),
                       shell_word(classes[cells[0].true_class]), shell_word(classes[cells[0].predicted]));
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

}  // namespace

void add_classes(Command& command) {
    auto options = std::make_shared<ClassesOptions>();
    add_prediction_options(command, options->predictions);
    command
        .add_option("--columns", options->query.columns,
                    "support, right, false_positives, false_negatives, precision, recall, f1, roc_auc, "
                    "average_precision")
        .type_name("NAME,...")
        .delimiter(',');
    command.add_option("--sort", options->query.sort, "by this column, the weakest first, or by name")
        .type_name("NAME")
        .capture_default_str();
    command.add_flag("--reverse", options->query.reversed, "the other way round");
    command.add_option("--most", options->most, "rows to print (default: all)").type_name("N");
    add_table_option(command, options->csv, "write the table");
    add_picture_option(command, "--figure", options->figure, "draw recall and precision");
    command.callback([options] { classes(*options); });
}

}  // namespace jevrin::app
