#include "jevrin/evaluation/threshold_report.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/metrics/calibration.hpp"

#include <fmt/format.h>

#include <numeric>

namespace jevrin::inline v1 {

ThresholdReport threshold_report(const Ledger& ledger, const RunRecord& run,
                                 const PartPredictions& predictions, const ThresholdWishes& wishes) {
    ThresholdReport report;
    const auto temperature = temperature_of(ledger, run, predictions.epoch);
    if (!temperature)
        throw InputError(
            fmt::format("the model file of {} is missing, and thresholds need the probabilities of a "
                        "model; 'jevrin train' trains it again",
                        printable(run.name())));
    report.temperature = *temperature;
    const PredictionTable table = with_temperature(predictions.table, report.temperature);
    const std::vector<RankScores> ranks = rank_scores(table);
    std::vector<std::size_t> wanted(table.classes);
    std::iota(wanted.begin(), wanted.end(), std::size_t{0});
    if (wishes.one_class) wanted = {*wishes.one_class};
    for (const std::size_t c : wanted) {
        ClassThresholds own{.one_class = c,
                            .curve = threshold_curve(table, c),
                            .ranks = ranks[c],
                            .of_precision = {},
                            .of_recall = {}};
        own.of_precision = point_of_precision(own.curve, wishes.precision);
        own.of_recall = point_of_recall(own.curve, wishes.recall);
        report.classes.push_back(std::move(own));
    }
    report.coverage = coverage_curve(table);
    if (wishes.accuracy) report.wanted = point_of_accuracy(report.coverage, *wishes.accuracy);
    return report;
}

}  // namespace jevrin::inline v1
