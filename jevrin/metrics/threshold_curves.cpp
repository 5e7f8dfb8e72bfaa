#include "jevrin/metrics/threshold_curves.hpp"

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

double share(std::int64_t part, std::int64_t whole) {
    return whole == 0 ? 0.0 : static_cast<double>(part) / static_cast<double>(whole);
}

struct Decision {
    float value = 0.0F;
    bool correct = false;
};

// Calls point(threshold, correct so far, wrong so far) after each group of equal values, from the highest
// down.
template <typename Point>
void walk_down(std::vector<Decision> decisions, const Point& point) {
    std::sort(decisions.begin(), decisions.end(),
              [](const Decision& a, const Decision& b) { return a.value > b.value; });
    std::int64_t correct = 0;
    std::int64_t wrong = 0;
    for (std::size_t i = 0; i < decisions.size(); ++i) {
        (decisions[i].correct ? correct : wrong) += 1;
        if (i + 1 == decisions.size() || decisions[i + 1].value != decisions[i].value)
            point(static_cast<double>(decisions[i].value), correct, wrong);
    }
}

// The point that meets `enough` with the greatest value of `wanted`; of equal ones the first.
template <typename Point, typename Enough, typename Wanted>
std::optional<Point> best_point(const std::vector<Point>& points, const Enough& enough,
                                const Wanted& wanted) {
    const Point* best = nullptr;
    for (const Point& point : points)
        if (enough(point) && (best == nullptr || wanted(point) > wanted(*best))) best = &point;
    return best == nullptr ? std::nullopt : std::optional(*best);
}

}  // namespace

double ThresholdCurve::precision(const ThresholdPoint& point) const {
    return share(point.true_positives, point.true_positives + point.false_positives);
}

double ThresholdCurve::recall(const ThresholdPoint& point) const {
    return share(point.true_positives, positives);
}

double ThresholdCurve::false_positive_rate(const ThresholdPoint& point) const {
    return share(point.false_positives, negatives);
}

ThresholdCurve threshold_curve(const PredictionTable& table, std::size_t one_class) {
    std::vector<Decision> decisions;
    for (std::size_t i = 0; i < table.items(); ++i)
        decisions.push_back({table.row(i)[one_class], table.labels[i] == one_class});
    ThresholdCurve curve;
    walk_down(std::move(decisions), [&](double threshold, std::int64_t correct, std::int64_t wrong) {
        curve.points.push_back({threshold, correct, wrong});
        curve.positives = correct;
        curve.negatives = wrong;
    });
    return curve;
}

std::optional<ThresholdPoint> point_of_precision(const ThresholdCurve& curve, double precision) {
    return best_point(
        curve.points, [&](const ThresholdPoint& p) { return curve.precision(p) >= precision; },
        [&](const ThresholdPoint& p) { return curve.recall(p); });
}

std::optional<ThresholdPoint> point_of_recall(const ThresholdCurve& curve, double recall) {
    if (curve.positives == 0) return std::nullopt;
    return best_point(
        curve.points, [&](const ThresholdPoint& p) { return curve.recall(p) >= recall; },
        [&](const ThresholdPoint& p) { return curve.precision(p); });
}

std::vector<CoveragePoint> coverage_curve(const PredictionTable& table) {
    std::vector<Decision> decisions;
    for (std::size_t i = 0; i < table.items(); ++i) {
        const std::size_t predicted = table.predicted(i);
        decisions.push_back({table.row(i)[predicted], predicted == table.labels[i]});
    }
    std::vector<CoveragePoint> curve;
    walk_down(std::move(decisions), [&](double threshold, std::int64_t correct, std::int64_t wrong) {
        curve.push_back({threshold, correct + wrong, correct});
    });
    return curve;
}

std::optional<CoveragePoint> point_of_accuracy(const std::vector<CoveragePoint>& curve, double accuracy) {
    return best_point(
        curve, [&](const CoveragePoint& p) { return p.accuracy() >= accuracy; },
        [](const CoveragePoint& p) { return p.answered; });
}

std::optional<CoveragePoint> point_of_coverage(const std::vector<CoveragePoint>& curve, double wanted) {
    const std::int64_t all = curve.empty() ? 0 : curve.back().answered;
    return best_point(
        curve, [&](const CoveragePoint& p) { return share(p.answered, all) >= wanted; },
        [](const CoveragePoint& p) { return p.accuracy(); });
}

}  // namespace jevrin::inline v1
