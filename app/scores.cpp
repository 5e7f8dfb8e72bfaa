#include "prediction_options.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/reliability_figure.hpp"
#include "jevrin/results/scores_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct ScoresOptions {
    PredictionOptions predictions;
    ScoresQuery query;
    std::filesystem::path elsewhere;
    std::filesystem::path csv;
    std::filesystem::path figure;
};

RunPredictions predictions_of(const OpenStudy& open, const ScoresOptions& options) {
    if (options.elsewhere.empty()) return open_predictions(open, options.predictions);
    ProgressBars bar;
    return open_predictions_from(options.elsewhere, open.ledger, open.study, options.predictions.query(),
                                 bar.of("predicting"));
}

void scores(const ScoresOptions& options) {
    const OpenStudy open = open_study(options.predictions.ledger);
    const ScoresResult result = report_scores(open.ledger, predictions_of(open, options), options.query);
    if (!options.csv.empty()) write_file(options.csv, to_csv(result.of.predictions, result.of.classes()));
    if (!options.figure.empty())
        draw_reliability(result.report.bins,
                         fmt::format("{}: reliability of its confidence", result.of.what()), options.figure);
    present(result, {.json = options.predictions.ledger.json,
                     .written = {options.csv, options.figure},
                     .next = fmt::format("next: jevrin classes {0}, jevrin mistakes {0}\n",
                                         shell_word(result.of.run.name()))});
}

}  // namespace

void add_scores(Command& command) {
    auto options = std::make_shared<ScoresOptions>();
    add_prediction_options(command, options->predictions);
    command.add_option("--top-k", options->query.top_k, "k of top-k accuracy")
        .type_name("K")
        .positive()
        .capture_default_str();
    command.add_option("--seed", options->query.seed, "seed of the bootstrap").capture_default_str();
    command
        .add_option("--predictions", options->elsewhere,
                    "score predictions from a CSV file for the same items")
        .type_name("FILE");
    add_table_option(command, options->csv, "write the predictions");
    add_figure_option(command, "--figure", options->figure, "draw the reliability diagram");
    command.callback([options] { scores(*options); });
}

}  // namespace jevrin::app
