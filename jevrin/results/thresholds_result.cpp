#include "jevrin/results/thresholds_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/predictions_json.hpp"

#include <fmt/format.h>

#include <tuple>

namespace jevrin::inline v1 {
namespace {

std::string optional_decimals(const std::optional<double>& value) {
    return value ? three_decimals(*value) : "";
}

std::string class_table(const ThresholdsResult& result, std::size_t width) {
    ResultTable table(
        {"class", "ROC AUC", "avg. precision", fmt::format("precision >= {}", result.query.precision),
         "recall", fmt::format("recall >= {}", result.query.recall), "precision"},
        {1, 2, 3, 4, 5, 6});
    for (const ClassThresholds& own : result.report.classes) {
        const auto threshold = [](const std::optional<ThresholdPoint>& point) {
            return point ? fmt::format("from {:.3f}", point->threshold) : std::string("never");
        };
        table.add({name_cell(result.of.classes()[own.one_class]), optional_decimals(own.ranks.roc_auc),
                   optional_decimals(own.ranks.average_precision), threshold(own.of_precision),
                   own.of_precision ? three_decimals(own.curve.recall(*own.of_precision)) : "",
                   threshold(own.of_recall),
                   own.of_recall ? three_decimals(own.curve.precision(*own.of_recall)) : ""});
    }
    return table.text(width);
}

Interval precision_interval(const ThresholdPoint& point) {
    return wilson_interval(point.true_positives, point.true_positives + point.false_positives);
}

Interval recall_interval(const ThresholdPoint& point, const ThresholdCurve& curve) {
    return wilson_interval(point.true_positives, curve.positives);
}

// What the thresholds of the one class that was asked for give.
std::string class_lines(const ThresholdsResult& result) {
    if (result.query.one_class.empty()) return "";
    std::string text;
    for (const ClassThresholds& own : result.report.classes) {
        for (const auto& [point, wanted, value] :
             {std::tuple(own.of_precision, "precision", result.query.precision),
              std::tuple(own.of_recall, "recall", result.query.recall)}) {
            if (!point) continue;
            const Interval precision = precision_interval(*point);
            const Interval recall = recall_interval(*point, own.curve);
            text += fmt::format(
                "\n{} of at least {}: threshold of {} {:.3f}; precision {:.3f} ({:.3f} to {:.3f}), recall "
                "{:.3f} ({:.3f} to {:.3f}), {} true and {} false positives",
                wanted, value, printable(result.of.classes()[own.one_class]), point->threshold,
                own.curve.precision(*point), precision.low, precision.high, own.curve.recall(*point),
                recall.low, recall.high, point->true_positives, point->false_positives);
        }
        text += "\n";
    }
    return text;
}

std::string coverage_line(const CoveragePoint& point, std::int64_t items) {
    const Interval interval = wilson_interval(point.correct, point.answered);
    return fmt::format(
        "confidence from {:.3f}: {} of {} items, {} correct: accuracy {:.3f} ({:.3f} to {:.3f})\n",
        point.threshold, point.answered, items, point.correct, point.accuracy(), interval.low, interval.high);
}

std::string coverage_text(const ThresholdsResult& result) {
    const ThresholdReport& report = result.report;
    const std::int64_t items = report.coverage.empty() ? 0 : report.coverage.back().answered;
    std::string text = "accuracy by confidence threshold:\n";
    for (const double share : {1.0, 0.95, 0.9, 0.8, 0.7, 0.5})
        if (const auto point = point_of_coverage(report.coverage, share))
            text += fmt::format("  at least {:3.0f} %  {}", 100 * share, coverage_line(*point, items));
    if (result.query.accuracy)
        text += fmt::format(
            "for an accuracy of {}: {}", *result.query.accuracy,
            report.wanted ? coverage_line(*report.wanted, items) : std::string("no threshold reaches it\n"));
    return text;
}

Json point_json(const ThresholdCurve& curve, const std::optional<ThresholdPoint>& point) {
    if (!point) return {};
    return {{"threshold", point->threshold},
            {"precision", curve.precision(*point)},
            {"recall", curve.recall(*point)},
            {"precision_interval", interval_json(precision_interval(*point))},
            {"recall_interval", interval_json(recall_interval(*point, curve))}};
}

Json point_json(const CoveragePoint& point) {
    return {{"threshold", point.threshold},
            {"answered", point.answered},
            {"correct", point.correct},
            {"accuracy", point.accuracy()}};
}

}  // namespace

ThresholdsResult report_thresholds(const Ledger& ledger, RunPredictions of, const ThresholdsQuery& query) {
    ThresholdWishes wishes{.precision = query.precision, .recall = query.recall, .accuracy = query.accuracy};
    if (!query.one_class.empty()) wishes.one_class = class_called(of.classes(), query.one_class);
    ThresholdReport report = threshold_report(ledger, of.run, of.predictions, wishes);
    return {.of = std::move(of), .query = query, .report = std::move(report)};
}

std::string to_json(const ThresholdsResult& result) {
    Json json = head_json(result.of);
    json["temperature"] = result.report.temperature;
    json["classes"] = Json::array();
    for (const ClassThresholds& own : result.report.classes)
        json["classes"].push_back({{"class", result.of.classes()[own.one_class]},
                                   {"roc_auc", or_null(own.ranks.roc_auc)},
                                   {"average_precision", or_null(own.ranks.average_precision)},
                                   {"of_precision", point_json(own.curve, own.of_precision)},
                                   {"of_recall", point_json(own.curve, own.of_recall)}});
    json["coverage"] = Json::array();
    for (const CoveragePoint& point : result.report.coverage) json["coverage"].push_back(point_json(point));
    json["of_accuracy"] = result.report.wanted ? point_json(*result.report.wanted) : Json();
    return document(json);
}

ResultTable to_table(const ThresholdsResult& result) {
    ResultTable table({{.key = "class", .head = "class"},
                       {.key = "threshold", .head = "threshold", .align = Align::right},
                       {.key = "precision", .head = "precision", .align = Align::right},
                       {.key = "recall", .head = "recall", .align = Align::right},
                       {.key = "false_positive_rate", .head = "false positive rate", .align = Align::right}});
    for (const ClassThresholds& own : result.report.classes)
        for (const ThresholdPoint& point : own.curve.points)
            table.add({name_cell(result.of.classes()[own.one_class]), decimal_cell(point.threshold),
                       decimal_cell(own.curve.precision(point)), decimal_cell(own.curve.recall(point)),
                       decimal_cell(own.curve.false_positive_rate(point))});
    return table;
}

std::string to_text(const ThresholdsResult& result, const TextForm& form) {
    return fmt::format("{}: {}\nprobabilities of the model, at its calibration temperature {:.3f}\n\n",
                       result.of.what(), plural(static_cast<std::int64_t>(result.of.table().items()), "item"),
                       result.report.temperature) +
           class_table(result, form.width) + class_lines(result) + "\n" + coverage_text(result) +
           "thresholds are chosen and evaluated on the same items, so these scores are slightly optimistic\n";
}

}  // namespace jevrin::inline v1
