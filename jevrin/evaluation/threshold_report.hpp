// Thresholds on the probabilities of one run: for a precision or recall of a class, and for selective
// prediction.
#pragma once

#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/metrics/ranking.hpp"
#include "jevrin/metrics/threshold_curves.hpp"

#include <optional>
#include <vector>

namespace jevrin::inline v1 {

struct ThresholdWishes {
    std::optional<std::size_t> one_class = std::nullopt;  // only this class
    double precision = 0.9;                               // in [0, 1]
    double recall = 0.9;
    std::optional<double> accuracy = std::nullopt;  // of what is answered
};

struct ClassThresholds {
    std::size_t one_class = 0;
    ThresholdCurve curve;
    RankScores ranks;
    std::optional<ThresholdPoint> of_precision;
    std::optional<ThresholdPoint> of_recall;
};

struct ThresholdReport {
    double temperature = 1.0;
    std::vector<ClassThresholds> classes;
    std::vector<CoveragePoint> coverage;
    std::optional<CoveragePoint> wanted;  // of the accuracy asked for
};

// InputError when the model that predicted is gone: thresholds hold for the probabilities that it gives, with
// its temperature.
ThresholdReport threshold_report(const Ledger& ledger, const RunRecord& run,
                                 const PartPredictions& predictions, const ThresholdWishes& wishes);

}  // namespace jevrin::inline v1
