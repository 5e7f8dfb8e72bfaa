#include "prediction_options.hpp"

#include "jevrin/figures/threshold_figure.hpp"
#include "jevrin/results/thresholds_result.hpp"

#include <fmt/format.h>

#include <tuple>

namespace jevrin::app {
namespace {

struct ThresholdsOptions {
    PredictionOptions predictions;
    ThresholdsQuery query;
    std::filesystem::path csv;
    std::filesystem::path figure;
};

void draw(const ThresholdsResult& result, const std::filesystem::path& file) {
    std::vector<NamedCurve> curves;
    for (const ClassThresholds& own : result.report.classes)
        curves.push_back({result.of.classes()[own.one_class], own.curve,
                          result.query.one_class.empty() ? std::nullopt : own.of_precision});
    draw_thresholds(curves, result.report.coverage, result.report.wanted, result.of.what(), file);
}

void thresholds(const ThresholdsOptions& options) {
    const OpenStudy open = open_study(options.predictions.ledger);
    const ThresholdsResult result =
        report_thresholds(open.ledger, open_predictions(open, options.predictions), options.query);
    write_table(options.csv, to_table(result));
    if (!options.figure.empty()) draw(result, options.figure);
    present(result, {.json = options.predictions.ledger.json,
                     .written = {options.csv, options.figure},
                     .next = "next: 'jevrin classify --sure-from P' applies a confidence threshold\n"});
}

}  // namespace

void add_thresholds(Command& command) {
    auto options = std::make_shared<ThresholdsOptions>();
    add_prediction_options(command, options->predictions);
    command.add_option("--class", options->query.one_class, "only this class").type_name("CLASS");
    for (const auto& [name, value, text] :
         {std::tuple("--precision", &options->query.precision,
                     "required precision: report the threshold and its recall"),
          std::tuple("--recall", &options->query.recall,
                     "required recall: report the threshold and its precision")})
        command.add_option(name, *value, text).within(0.0, 1.0).option_text(fmt::format("VALUE={}", *value));
    command
        .add_option("--accuracy", options->query.accuracy,
                    "required accuracy of the items above a confidence: report that confidence")
        .within(0.0, 1.0)
        .option_text("VALUE");
    add_table_option(command, options->csv, "write all points of the curves");
    add_figure_option(command, "--figure", options->figure, "draw the curves");
    command.callback([options] { thresholds(*options); });
}

}  // namespace jevrin::app
