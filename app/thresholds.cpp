#include "commands.hpp"
#include "prediction_options.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/threshold_report.hpp"
#include "jevrin/figures/threshold_figure.hpp"
#include "jevrin/metrics/intervals.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {
namespace {

struct ThresholdsOptions {
    PredictionOptions predictions;
    std::string one_class;
    double precision = 0.9;
    double recall = 0.9;
    double accuracy = 0.0;  // 0: not asked for
    std::filesystem::path csv;
    std::filesystem::path figure;
};

ThresholdReport make_report(const ThresholdsOptions& options, const OpenPredictions& open) {
    ThresholdWishes wishes{.precision = options.precision, .recall = options.recall};
    if (!options.one_class.empty()) wishes.one_class = class_called(open.classes(), options.one_class);
    if (options.accuracy > 0.0) wishes.accuracy = options.accuracy;
    return threshold_report(open.open.ledger, open.run, open.predictions, wishes);
}

std::string optional_decimals(const std::optional<double>& value) {
    return value ? three_decimals(*value) : "";
}

std::string class_table(const ThresholdReport& report, const ThresholdsOptions& options,
                        const std::vector<std::string>& classes) {
    Table table({"class", "ROC AUC", "avg. precision", fmt::format("precision >= {}", options.precision),
                 "recall", fmt::format("recall >= {}", options.recall), "precision"},
                {1, 2, 3, 4, 5, 6});
    for (const ClassThresholds& own : report.classes) {
        const auto threshold = [](const std::optional<ThresholdPoint>& point) {
            return point ? fmt::format("from {:.3f}", point->threshold) : std::string("never");
        };
        table.add({short_cell(classes[own.one_class]), optional_decimals(own.ranks.roc_auc),
                   optional_decimals(own.ranks.average_precision), threshold(own.of_precision),
                   own.of_precision ? three_decimals(own.curve.recall(*own.of_precision)) : "",
                   threshold(own.of_recall),
                   own.of_recall ? three_decimals(own.curve.precision(*own.of_recall)) : ""});
    }
    return table.text();
}

std::string coverage_line(const CoveragePoint& point, std::int64_t items) {
    const Interval interval = wilson_interval(point.right, point.answered);
    return fmt::format("from {:.3f}: {} of {} answered, {} right: {:.3f} ({:.3f} to {:.3f})\n",
                       point.threshold, point.answered, items, point.right, point.accuracy(), interval.low,
                       interval.high);
}

std::string coverage_text(const ThresholdReport& report, const ThresholdsOptions& options) {
    const std::int64_t items = report.coverage.empty() ? 0 : report.coverage.back().answered;
    std::string text = "answering only when the confidence is high enough:\n";
    for (const double share : {1.0, 0.95, 0.9, 0.8, 0.7, 0.5})
        if (const auto point = point_of_coverage(report.coverage, share))
            text += fmt::format("  at least {:3.0f} %  {}", 100 * share, coverage_line(*point, items));
    if (options.accuracy > 0.0)
        text += fmt::format(
            "for an accuracy of {}: {}", options.accuracy,
            report.wanted ? coverage_line(*report.wanted, items) : std::string("no threshold reaches it\n"));
    return text;
}

Json point_json(const ThresholdCurve& curve, const std::optional<ThresholdPoint>& point) {
    if (!point) return {};
    return {
        {"threshold", point->threshold},
        {"precision", curve.precision(*point)},
        {"recall", curve.recall(*point)},
        {"precision_interval", interval_json(wilson_interval(
                                   point->true_positives, point->true_positives + point->false_positives))},
        {"recall_interval", interval_json(wilson_interval(point->true_positives, curve.positives))}};
}

Json point_json(const CoveragePoint& point) {
    return {{"threshold", point.threshold},
            {"answered", point.answered},
            {"right", point.right},
            {"accuracy", point.accuracy()}};
}

Json to_json(const ThresholdReport& report, const OpenPredictions& open) {
    Json json = open.json();
    json["temperature"] = report.temperature;
    json["classes"] = Json::array();
    for (const ClassThresholds& own : report.classes)
        json["classes"].push_back(
            {{"class", open.classes()[own.one_class]},
             {"roc_auc", own.ranks.roc_auc ? Json(*own.ranks.roc_auc) : Json()},
             {"average_precision", own.ranks.average_precision ? Json(*own.ranks.average_precision) : Json()},
             {"of_precision", point_json(own.curve, own.of_precision)},
             {"of_recall", point_json(own.curve, own.of_recall)}});
    json["coverage"] = Json::array();
    for (const CoveragePoint& point : report.coverage) json["coverage"].push_back(point_json(point));
    json["of_accuracy"] = report.wanted ? point_json(*report.wanted) : Json();
    return json;
}

// Every point of every curve.
std::string to_csv(const ThresholdReport& report, const std::vector<std::string>& classes) {
    std::string text =
        csv_row(std::vector<std::string>{"class", "threshold", "precision", "recall", "false_positive_rate"});
    for (const ClassThresholds& own : report.classes)
        for (const ThresholdPoint& point : own.curve.points)
            text += csv_row(std::vector<std::string>{
                classes[own.one_class], fmt::format("{}", point.threshold),
                fmt::format("{}", own.curve.precision(point)), fmt::format("{}", own.curve.recall(point)),
                fmt::format("{}", own.curve.false_positive_rate(point))});
    return text;
}

void thresholds(const ThresholdsOptions& options) {
    const OpenPredictions open = open_predictions(options.predictions);
    const ThresholdReport report = make_report(options, open);
    if (!options.csv.empty()) write_file(options.csv, to_csv(report, open.classes()));
    if (!options.figure.empty()) {
        std::vector<NamedCurve> curves;
        for (const ClassThresholds& own : report.classes)
            curves.push_back({open.classes()[own.one_class], own.curve,
                              options.one_class.empty() ? std::nullopt : own.of_precision});
        draw_thresholds(curves, report.coverage, report.wanted, open.what(), options.figure);
    }
    if (options.predictions.ledger.json) {
        print_json(to_json(report, open));
        return;
    }
    print(fmt::format("{}: {}\nprobabilities are those that the model gives, at its temperature {:.3f}\n\n",
                      open.what(), plural(static_cast<std::int64_t>(open.table().items()), "item"),
                      report.temperature));
    print(class_table(report, options, open.classes()));
    for (const ClassThresholds& own : report.classes) {
        if (options.one_class.empty()) continue;
        for (const auto& [point, wanted, value] :
             {std::tuple(own.of_precision, "precision", options.precision),
              std::tuple(own.of_recall, "recall", options.recall)}) {
            if (!point) continue;
            const Interval precision =
                wilson_interval(point->true_positives, point->true_positives + point->false_positives);
            const Interval recall = wilson_interval(point->true_positives, own.curve.positives);
            print(fmt::format(
                "\n{} of at least {}: take it for {} from {:.3f} on; precision {:.3f} ({:.3f} to "
                "{:.3f}), recall {:.3f} ({:.3f} to {:.3f}), {} right and {} wrong",
                wanted, value, printable(open.classes()[own.one_class]), point->threshold,
                own.curve.precision(*point), precision.low, precision.high, own.curve.recall(*point),
                recall.low, recall.high, point->true_positives, point->false_positives));
        }
        print("\n");
    }
    print("\n" + coverage_text(report, options));
    print(
        fmt::format("thresholds found on the items they are judged by are flattered a little; 'jevrin "
                    "classify --sure-from P' applies one\n{}",
                    test_look_line(open.open)));
    print_written({options.csv, options.figure});
}

}  // namespace

void add_thresholds(Command& command) {
    auto options = std::make_shared<ThresholdsOptions>();
    add_prediction_options(command, options->predictions);
    command.add_option("--class", options->one_class, "only this class").type_name("CLASS");
    for (const auto& [name, value, text] :
         {std::tuple("--precision", &options->precision,
                     "the precision wanted: which threshold, what recall"),
          std::tuple("--recall", &options->recall, "the recall wanted: which threshold, what precision")})
        command.add_option(name, *value, text).within(0.0, 1.0).option_text(fmt::format("SHARE={}", *value));
    command
        .add_option("--accuracy", options->accuracy,
                    "the accuracy wanted of what is answered: which confidence to ask for")
        .within(0.0, 1.0)
        .option_text("SHARE");
    add_table_option(command, options->csv, "write all points of the curves");
    add_picture_option(command, "--figure", options->figure, "draw the curves");
    command.callback([options] { thresholds(*options); });
}

}  // namespace jevrin::app
