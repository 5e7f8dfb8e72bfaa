#include "jevrin/comparison/curves.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

namespace jevrin::inline v1 {
namespace {

std::optional<Metric> metric_of(CurveQuantity quantity) {
    switch (quantity) {
        case CurveQuantity::accuracy:
            return Metric::accuracy;
        case CurveQuantity::balanced_accuracy:
            return Metric::balanced_accuracy;
        case CurveQuantity::macro_f1:
            return Metric::macro_f1;
        case CurveQuantity::loss:
        case CurveQuantity::objective:
        case CurveQuantity::learning_rate:
            return std::nullopt;
    }
    unhandled(quantity);
}

double value_of(const EpochRecord& epoch, CurveQuantity quantity, CurvePart part) {
    const bool training = part == CurvePart::training;
    if (const std::optional<Metric> metric = metric_of(quantity))
        return training ? training_score(epoch, *metric) : validation_score(epoch, *metric);
    if (quantity == CurveQuantity::objective) return epoch.objective;
    if (quantity == CurveQuantity::learning_rate) return epoch.learning_rate;
    return training ? epoch.training_loss : epoch.validation_loss;
}

}  // namespace

RunCurves curves_of_run(const Ledger& ledger, const RunRecord& run) {
    return {.run = run, .epochs = ledger.curve(run.id)};
}

const EnumNames<CurveQuantity>& names_of(CurveQuantity) {
    static const EnumNames<CurveQuantity> names("the quantity",
                                                {{CurveQuantity::loss, "loss"},
                                                 {CurveQuantity::objective, "objective"},
                                                 {CurveQuantity::accuracy, "accuracy"},
                                                 {CurveQuantity::balanced_accuracy, "balanced_accuracy"},
                                                 {CurveQuantity::macro_f1, "macro_f1"},
                                                 {CurveQuantity::learning_rate, "learning_rate"}});
    return names;
}

std::string spoken_quantity(CurveQuantity quantity) {
    if (const std::optional<Metric> metric = metric_of(quantity)) return spoken_metric(*metric);
    if (quantity == CurveQuantity::loss) return "loss (cross-entropy)";
    return quantity == CurveQuantity::objective ? "training objective" : "learning rate";
}

CurveQuantity quantity_of(Metric metric) {
    return value_named<CurveQuantity>(name_of(metric));
}

bool is_on_both_parts(CurveQuantity quantity) {
    return quantity != CurveQuantity::objective && quantity != CurveQuantity::learning_rate;
}

const EnumNames<CurveAxis>& names_of(CurveAxis) {
    static const EnumNames<CurveAxis> names("the axis", {{CurveAxis::epoch, "epoch"},
                                                         {CurveAxis::step, "step"},
                                                         {CurveAxis::seconds, "seconds"},
                                                         {CurveAxis::examples, "examples"}});
    return names;
}

CurvePoints curve_points(const RunCurves& curves, CurveQuantity quantity, CurvePart part, CurveAxis axis) {
    if (part == CurvePart::validation && !is_on_both_parts(quantity)) return {};
    CurvePoints points;
    double seconds = 0.0;
    for (const EpochRecord& epoch : curves.epochs) {
        seconds += epoch.seconds;
        const double place = axis == CurveAxis::epoch     ? static_cast<double>(epoch.epoch)
                             : axis == CurveAxis::seconds ? seconds
                             : axis == CurveAxis::step
                                 ? static_cast<double>(epoch.step)
                                 : static_cast<double>(epoch.step) *
                                       static_cast<double>(std::max<std::int64_t>(1, curves.run.batch));
        points.emplace_back(place, value_of(epoch, quantity, part));
    }
    return points;
}

CurvePoints smoothed(const CurvePoints& points, double weight) {
    CurvePoints result;
    double sum = 0.0;
    double weights = 0.0;
    for (const auto& [x, y] : points) {
        sum = weight * sum + y;
        weights = weight * weights + 1.0;
        result.emplace_back(x, sum / weights);
    }
    return result;
}

CurveBand band_of(const std::vector<CurvePoints>& curves) {
    CurveBand band;
    if (curves.empty()) return band;
    std::size_t shortest = curves.front().size();
    for (const CurvePoints& points : curves) shortest = std::min(shortest, points.size());
    const auto count = static_cast<double>(curves.size());
    for (std::size_t i = 0; i < shortest; ++i) {
        std::pair<double, double> mean{0.0, 0.0};
        double low = curves.front()[i].second;
        double high = low;
        for (const CurvePoints& points : curves) {
            mean.first += points[i].first / count;
            mean.second += points[i].second / count;
            low = std::min(low, points[i].second);
            high = std::max(high, points[i].second);
        }
        band.mean.push_back(mean);
        band.low.push_back(low);
        band.high.push_back(high);
    }
    return band;
}

std::vector<CandidateCurves> by_candidate(const std::vector<RunCurves>& curves) {
    std::vector<CandidateCurves> groups;
    for (const RunCurves& run : curves) {
        if (run.epochs.empty()) continue;
        auto group = std::find_if(groups.begin(), groups.end(), [&](const CandidateCurves& known) {
            return known.candidate == run.run.candidate;
        });
        if (group == groups.end())
            group = groups.insert(groups.end(), {run.run.candidate, run.run.regime, {}});
        group->runs.push_back(&run);
    }
    return groups;
}

}  // namespace jevrin::inline v1
