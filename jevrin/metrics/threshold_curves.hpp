// Scores by threshold: one class against the rest, and selective prediction.
#pragma once

#include "jevrin/metrics/intervals.hpp"
#include "jevrin/metrics/predictions.hpp"

#include <cstdint>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {

// Items whose probability of the class is at least the threshold are taken for it.
struct ThresholdPoint {
    double threshold = 0.0;
    std::int64_t true_positives = 0;
    std::int64_t false_positives = 0;
};

// One point for each distinct probability, from the highest down; recall and the fraction of false positives
// never fall along it.
struct ThresholdCurve {
    std::int64_t positives = 0;  // items of the class
    std::int64_t negatives = 0;
    std::vector<ThresholdPoint> points;

    double precision(const ThresholdPoint& point) const;
    double recall(const ThresholdPoint& point) const;               // the true positive rate of the ROC curve
    double false_positive_rate(const ThresholdPoint& point) const;  // its other axis
};
// Of one class against all others.
ThresholdCurve threshold_curve(const PredictionTable& table, std::size_t one_class);

// Of the points with at least this precision, that of the highest recall; of the points with at least this
// recall, that of the highest precision (of equal ones the higher threshold). Nothing when there is none.
std::optional<ThresholdPoint> point_of_precision(const ThresholdCurve& curve, double precision);
std::optional<ThresholdPoint> point_of_recall(const ThresholdCurve& curve, double recall);

// Only items whose confidence is at least the threshold are answered.
struct CoveragePoint {
    double threshold = 0.0;
    std::int64_t answered = 0;
    std::int64_t correct = 0;

    double accuracy() const {
        return answered == 0 ? 0.0 : static_cast<double>(correct) / static_cast<double>(answered);
    }
};
// One point for each distinct confidence, from the highest down; the last one answers everything.
std::vector<CoveragePoint> coverage_curve(const PredictionTable& table);

// Of the points with at least this accuracy, the one that answers most; of those that answer at least this
// fraction of the items, the one of the highest accuracy. Nothing when there is none.
std::optional<CoveragePoint> point_of_accuracy(const std::vector<CoveragePoint>& curve, double accuracy);
std::optional<CoveragePoint> point_of_coverage(const std::vector<CoveragePoint>& curve, double share);

}  // namespace jevrin::inline v1
