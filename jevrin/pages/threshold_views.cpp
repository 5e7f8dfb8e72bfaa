// Thresholds on the probabilities of a run.
#include "jevrin/pages/view_functions.hpp"
#include "jevrin/results/thresholds_result.hpp"

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

// Of a curve: as fine as a chart of it can show.
constexpr std::size_t most_sent_points = 500;

// The first, the last, and between them every so many.
template <typename Point>
std::vector<Point> thinned(const std::vector<Point>& points) {
    if (points.size() <= most_sent_points) return points;
    std::vector<Point> kept;
    for (std::size_t k = 0; k < most_sent_points; ++k)
        kept.push_back(points[k * (points.size() - 1) / (most_sent_points - 1)]);
    return kept;
}

}  // namespace

Json thresholds_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const RunRecord run = ledger.run(study.id, query.required("run"));
    require_finished(run);
    const ThresholdsResult result = report_thresholds(
        ledger, open_predictions(ledger, study, {.run = run.name()}), {.one_class = query.required("class")});
    const ClassThresholds& of_class = result.report.classes.at(0);
    Json points = Json::array();
    for (const ThresholdPoint& point : thinned(of_class.curve.points))
        points.push_back(
            Json::array({short_number(point.threshold), point.true_positives, point.false_positives}));
    Json coverage = Json::array();
    for (const CoveragePoint& point : thinned(result.report.coverage))
        coverage.push_back(Json::array({short_number(point.threshold), point.answered, point.correct}));
    return {{"run", run.name()},
            {"class", query.text("class")},
            {"temperature", short_number(result.report.temperature)},
            {"positives", of_class.curve.positives},
            {"negatives", of_class.curve.negatives},
            {"roc_auc", short_number(of_class.ranks.roc_auc)},
            {"average_precision", short_number(of_class.ranks.average_precision)},
            {"points", std::move(points)},
            {"coverage", std::move(coverage)}};
}

}  // namespace jevrin::inline v1
