#include "jevrin/comparison/training_sizes.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/metrics/significance.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

namespace jevrin::inline v1 {
namespace {

constexpr const char* fraction_path = "training.training_fraction";

// The settings of a candidate besides its fraction, as text, and the fraction.
struct TrainedOn {
    std::string family;
    double fraction = 1.0;
};

TrainedOn trained_on(const RunRecord& run) {
    TrainedOn trained{.family = run.origin, .fraction = run.training_fraction};
    std::string others;
    for (const VariedSetting& setting : run.varied)
        if (setting.path != fraction_path)
            others += fmt::format("{}{} {}", others.empty() ? ": " : ", ",
                                  setting.path.substr(setting.path.rfind('.') + 1), setting.value);
    trained.family += others;
    return trained;
}

TrainingSizePoint point_of(const StudyRecord& study, const CandidateEvidence& candidate, double fraction,
                           std::size_t classes) {
    const CandidateOutcomes outcomes = outcomes_of(candidate, classes, study.metric);
    const auto estimate = score_of(outcomes);
    double items = 0.0;
    for (const RunEvidence& run : candidate.runs)
        items +=
            fraction * static_cast<double>(run.training_items) / static_cast<double>(candidate.runs.size());
    return {.fraction = fraction,
            .training_items = std::llround(items),
            .candidate = candidate.candidate,
            .mean = outcomes.mean(),
            .interval = estimate ? std::optional(estimate->interval()) : std::nullopt,
            .seeds = std::ssize(outcomes.seeds())};
}

const CandidateEvidence& evidence_of(const StudyEvidence& evidence, const std::string& candidate) {
    return *std::find_if(evidence.candidates.begin(), evidence.candidates.end(),
                         [&](const CandidateEvidence& known) { return known.candidate == candidate; });
}

// Points of two curves with one fraction.
struct Common {
    double fraction = 0.0;
    const TrainingSizePoint* first = nullptr;
    const TrainingSizePoint* second = nullptr;
};

std::vector<Common> common_points(const TrainingSizeCurve& first, const TrainingSizeCurve& second) {
    std::vector<Common> common;
    for (const TrainingSizePoint& a : first.points)
        for (const TrainingSizePoint& b : second.points)
            if (a.fraction == b.fraction) common.push_back({a.fraction, &a, &b});
    return common;
}

// How many times the largest training set it takes until a gap that changes so with each doubling is closed.
std::optional<double> times_more(const std::vector<double>& fractions, const std::vector<double>& gaps) {
    const auto n = static_cast<double>(gaps.size());
    double x_mean = 0.0;
    double y_mean = 0.0;
    for (std::size_t i = 0; i < gaps.size(); ++i) {
        x_mean += std::log2(fractions[i]) / n;
        y_mean += gaps[i] / n;
    }
    double across = 0.0;
    double up = 0.0;
    for (std::size_t i = 0; i < gaps.size(); ++i) {
        const double x = std::log2(fractions[i]) - x_mean;
        across += x * x;
        up += x * (gaps[i] - y_mean);
    }
    const double slope = up / across;
    if (!(slope < -1e-6)) return std::nullopt;
    const double at_last = y_mean + slope * (std::log2(fractions.back()) - x_mean);
    return std::min(farthest_times_more, std::exp2(std::max(0.0, at_last) / -slope));
}

std::string words_of_times_more(std::optional<double> times) {
    if (!times) return "; the gap does not shrink";
    if (*times >= farthest_times_more)
        return fmt::format("; extrapolated, it would take more than {:.0f} times as many images",
                           farthest_times_more);
    return fmt::format("; extrapolated, it would take about {:.2g} times as many images", *times);
}

// Of the second over the first at each fraction, with p-values corrected for the number of fractions (Holm
// 1979).
std::vector<std::optional<Lead>> leads_by_fraction(const StudyRecord& study, const StudyEvidence& evidence,
                                                   const std::vector<Common>& common) {
    const auto outcomes = [&](const std::string& candidate) {
        return outcomes_of(evidence_of(evidence, candidate), evidence.classes, study.metric);
    };
    std::vector<std::optional<Lead>> leads;
    std::vector<double> p_values;
    for (const Common& point : common) {
        leads.push_back(lead_of(outcomes(point.second->candidate), outcomes(point.first->candidate)));
        p_values.push_back(leads.back() ? leads.back()->p_value : 1.0);
    }
    const std::vector<double> adjusted = holm_adjusted(p_values);
    for (std::size_t k = 0; k < leads.size(); ++k)
        if (leads[k]) leads[k]->adjusted_p = adjusted[k];
    return leads;
}

std::optional<CatchUp> catch_up(const StudyRecord& study, const StudyEvidence& evidence,
                                const TrainingSizeCurve& a, const TrainingSizeCurve& b) {
    if (common_points(a, b).size() < 2) return std::nullopt;
    const std::vector<Common> as_given = common_points(a, b);
    const bool a_is_behind = as_given.front().first->mean < as_given.front().second->mean;
    const TrainingSizeCurve& behind = a_is_behind ? a : b;
    const TrainingSizeCurve& ahead = a_is_behind ? b : a;
    const std::vector<Common> common = common_points(behind, ahead);
    CatchUp result{.behind = behind.name, .ahead = ahead.name};
    std::vector<double> fractions;
    std::vector<double> gaps;
    const std::vector<std::optional<Lead>> leads = leads_by_fraction(study, evidence, common);
    bool has_few_seeds = false;
    for (std::size_t k = 0; k < common.size(); ++k) {
        fractions.push_back(common[k].fraction);
        gaps.push_back(common[k].second->mean - common[k].first->mean);
        has_few_seeds |= leads[k] && leads[k]->seeds < fewest_seeds;
        if (is_ahead(leads[k]))
            result.fraction.reset();
        else if (!result.fraction)
            result.fraction = common[k].fraction;
    }
    result.first_gap = gaps.front();
    result.last_gap = gaps.back();
    if (!result.fraction) result.times_more = times_more(fractions, gaps);
    const std::string metric = spoken_metric(study.metric);
    const auto at = [&](double fraction) {
        return fmt::format("{:.0f} % of the training part", 100 * fraction);
    };
    if (has_few_seeds) {
        result.fraction.reset();
        result.words = fmt::format(
            "'{}' is behind '{}' by {:.3f} {} with {}, by {:.3f} with {}; fewer than {} seeds do not tell "
            "whether "
            "it catches up",
            behind.name, ahead.name, gaps.front(), metric, at(fractions.front()), gaps.back(),
            at(fractions.back()), fewest_seeds);
    } else if (result.fraction && *result.fraction == fractions.front())
        result.words = fmt::format(
            "'{}' and '{}' do not differ significantly at any training-set size that both had: the gap is "
            "{:.3f} "
            "{} with {}, "
            "{:.3f} "
            "with {}",
            behind.name, ahead.name, gaps.front(), metric, at(fractions.front()), gaps.back(),
            at(fractions.back()));
    else if (result.fraction)
        result.words = fmt::format(
            "'{}' catches up with '{}' at {}: behind by {:.3f} {} with {}, no significant difference from "
            "there on",
            behind.name, ahead.name, at(*result.fraction), gaps.front(), metric, at(fractions.front()));
    else
        result.words =
            fmt::format("'{}' does not catch up with '{}': behind by {:.3f} {} with {}, by {:.3f} with {}{}",
                        behind.name, ahead.name, gaps.front(), metric, at(fractions.front()), gaps.back(),
                        at(fractions.back()), words_of_times_more(result.times_more));
    return result;
}

}  // namespace

TrainingSizeReport learning_curves(const StudyRecord& study, const StudyEvidence& evidence) {
    TrainingSizeReport report;
    for (const CandidateEvidence& candidate : evidence.candidates) {
        const TrainedOn trained = trained_on(candidate.runs.front().run);
        auto curve =
            std::find_if(report.curves.begin(), report.curves.end(), [&](const TrainingSizeCurve& known) {
                return known.name == trained.family && known.regime == candidate.regime;
            });
        if (curve == report.curves.end())
            curve = report.curves.insert(report.curves.end(),
                                         TrainingSizeCurve{trained.family, candidate.regime, {}});
        curve->points.push_back(point_of(study, candidate, trained.fraction, evidence.classes));
    }
    std::erase_if(report.curves, [](const TrainingSizeCurve& curve) { return curve.points.size() < 2; });
    if (report.curves.empty())
        throw InputError(
            "no candidate was trained on several fractions of the training part; add "
            "'vary.training.training_fraction = [0.25, 0.5, 1.0]' to candidates of the plan and train it");
    std::map<Regime, const TrainingSizeCurve*> best;  // by regime, at the largest size
    for (TrainingSizeCurve& curve : report.curves) {
        std::sort(
            curve.points.begin(), curve.points.end(),
            [](const TrainingSizePoint& a, const TrainingSizePoint& b) { return a.fraction < b.fraction; });
        const TrainingSizeCurve*& known = best[curve.regime];
        if (known == nullptr || curve.points.back().mean > known->points.back().mean) known = &curve;
    }
    for (auto a = best.begin(); a != best.end(); ++a)
        for (auto b = std::next(a); b != best.end(); ++b)
            if (const auto found = catch_up(study, evidence, *a->second, *b->second))
                report.catch_ups.push_back(*found);
    return report;
}

}  // namespace jevrin::inline v1
