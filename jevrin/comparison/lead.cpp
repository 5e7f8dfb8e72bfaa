#include "jevrin/comparison/lead.hpp"

#include "jevrin/metrics/distributions.hpp"
#include "jevrin/metrics/moments.hpp"
#include "jevrin/metrics/significance.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

bool on_the_same_units(const SeedOutcomes& first, const SeedOutcomes& second) {
    return first.units == second.units && first.folds == second.folds;
}

// Scores lie from 0 to 1, and so do their differences from -1 to 1.
Interval within_scores(const Interval& interval) {
    return {std::max(-1.0, interval.low), std::min(1.0, interval.high)};
}

// Sums over seeds of correct predictions, the first's less the second's.
void count_units(Lead& lead, const std::vector<double>& sums) {
    for (const double sum : sums) {
        lead.first_only += sum > 1e-9;
        lead.second_only += sum < -1e-9;
    }
    lead.exact_p = mcnemar_p_value(lead.first_only, lead.second_only);
}

Lead lead_from(const CrossedEstimate& estimate, LeadRule rule, std::int64_t items) {
    return {.rule = rule,
            .mean = estimate.mean,
            .standard_error = std::sqrt(estimate.variance),
            .degrees_of_freedom = std::max(1.0, estimate.degrees_of_freedom),
            .interval = within_scores(estimate.interval),
            .p_value = estimate.p_value,
            .adjusted_p = estimate.p_value,
            .seeds = estimate.seeds,
            .items = items,
            .units = estimate.units,
            .seed_component = estimate.seed_component,
            .unit_component = estimate.unit_component,
            .rest_component = estimate.rest_component};
}

// Validation items for each training item.
double validation_share(const SeedOutcomes& seed, double folds) {
    return static_cast<double>(seed.items) / folds /
           static_cast<double>(std::max<std::int64_t>(1, seed.training_items));
}

// By fold, what its units add to a mean.
std::map<std::int64_t, double> fold_deviations(const std::vector<double>& unit_means,
                                               const std::vector<std::uint32_t>& strata,
                                               const std::vector<std::int64_t>& folds) {
    const std::vector<double> deviations = within_strata(unit_means, strata);
    std::map<std::int64_t, double> result;
    for (std::size_t i = 0; i < folds.size(); ++i)
        result[folds[i]] += deviations[i] / static_cast<double>(folds.size());
    return result;
}

// Each fold has a training part of its own, with an effect on all its runs. What the folds differ by beyond
// seeds and units is that effect; training parts overlap, so it is worth more than its own variance shows
// (Nadeau & Bengio 2003). docs/choice.md derives this.
CrossedEstimate with_folds(const CrossedEstimate& within, const std::vector<double>& unit_means,
                           const SeedOutcomes& seed) {
    const auto deviations = fold_deviations(unit_means, seed.strata, seed.folds);
    const auto folds = static_cast<double>(deviations.size());
    double squares = 0.0;
    for (const auto& [fold, deviation] : deviations) squares += deviation * deviation;
    const double between = squares * folds / (folds - 1);  // the variance of the mean that the folds show
    if (between <= within.variance) return within;
    const double overlap = folds * validation_share(seed, folds);
    const double of_folds = between * (1 + overlap);
    const double of_within = within.variance * overlap;
    const double variance = of_folds - of_within;
    return with_variance(within, {variance, variance * variance /
                                                (of_folds * of_folds / (folds - 1) +
                                                 of_within * of_within / within.degrees_of_freedom)});
}

std::int64_t fold_count(const SeedOutcomes& seed) {
    return std::ssize(std::set<std::int64_t>(seed.folds.begin(), seed.folds.end()));
}

Lead folds_lead(const CandidateOutcomes& first, const CandidateOutcomes& second) {
    const SeedOutcomes& seed = first.seeds().front();
    std::vector<double> differences = first.table()->unit_means;
    for (std::size_t i = 0; i < differences.size(); ++i) differences[i] -= second.table()->unit_means[i];
    const CrossedEstimate within = crossed_difference(*first.table(), *second.table());
    Lead lead = lead_from(with_folds(within, differences, seed), LeadRule::folds, seed.items);
    lead.seeds *= fold_count(seed);
    return lead;
}

// All seeds of both on the same units.
Lead common_lead(const CandidateOutcomes& first, const CandidateOutcomes& second) {
    const SeedOutcomes& seed = first.seeds().front();
    const CrossedEstimate estimate = crossed_difference(*first.table(), *second.table());
    Lead lead =
        seed.folds.empty()
            ? lead_from(estimate, estimate.seeds == 1 ? LeadRule::one_seed : LeadRule::crossed, seed.items)
            : folds_lead(first, second);
    std::vector<double> differences = first.correct();
    for (std::size_t i = 0; i < differences.size(); ++i) differences[i] -= second.correct()[i];
    count_units(lead, differences);
    return lead;
}

Lead resampled_lead(const std::vector<SeedOutcomes>& ours, const std::vector<SeedOutcomes>& theirs) {
    std::vector<double> differences;
    double share = 0.0;
    std::unordered_map<std::int64_t, double> by_unit;
    for (std::size_t pair = 0; pair < ours.size(); ++pair) {
        differences.push_back(ours[pair].score - theirs[pair].score);
        share += validation_share(ours[pair], 1.0) / static_cast<double>(ours.size());
        for (std::size_t i = 0; i < ours[pair].units.size(); ++i)
            by_unit[ours[pair].units[i]] += ours[pair].correct[i] - theirs[pair].correct[i];
    }
    const ResampledMean mean = resampled_mean(differences, share);
    // One unit more on which they differ, as in crossed_difference().
    const auto units = static_cast<double>(by_unit.size());
    CrossedEstimate estimate{.mean = mean.mean, .seeds = std::ssize(ours), .units = std::ssize(by_unit)};
    estimate = with_variance(estimate,
                             {mean.variance + 1.0 / (units * units), static_cast<double>(ours.size() - 1)});
    Lead lead = lead_from(estimate, LeadRule::resampled, validation_items_of(CandidateOutcomes(ours)));
    std::vector<double> sums;
    for (const auto& [unit, sum] : by_unit) sums.push_back(sum);
    count_units(lead, sums);
    return lead;
}

// Of two sides that did not all see the same units: the seeds of both on the units that most of them saw,
// or pairs of seeds where each saw its own.
std::optional<Lead> partial_lead(const CandidateOutcomes& first, const CandidateOutcomes& second) {
    const auto like = [](const CandidateOutcomes& side, const SeedOutcomes& seed) {
        std::vector<SeedOutcomes> rows;
        for (const SeedOutcomes& row : side.seeds())
            if (on_the_same_units(row, seed)) rows.push_back(row);
        return rows;
    };
    std::vector<SeedOutcomes> ours;
    std::vector<SeedOutcomes> theirs;
    for (const SeedOutcomes& seed : first.seeds()) {
        std::vector<SeedOutcomes> others = like(second, seed);
        std::vector<SeedOutcomes> own = like(first, seed);
        if (others.empty() || own.size() + others.size() <= ours.size() + theirs.size()) continue;
        ours = std::move(own);
        theirs = std::move(others);
    }
    if (ours.empty()) return std::nullopt;
    if (ours.size() > 1 || theirs.size() > 1)
        return common_lead(CandidateOutcomes(ours), CandidateOutcomes(theirs));
    ours.clear();
    theirs.clear();
    for (const SeedOutcomes& row : first.seeds())
        for (const SeedOutcomes& other : second.seeds())
            if (row.seed == other.seed && on_the_same_units(row, other)) {
                ours.push_back(row);
                theirs.push_back(other);
            }
    if (ours.empty()) return std::nullopt;
    if (ours.size() == 1) return common_lead(CandidateOutcomes(ours), CandidateOutcomes(theirs));
    return resampled_lead(ours, theirs);
}

// How many seeds and units a study has.
struct StudySize {
    double seeds = 2.0;
    double units = 2.0;
};

StudySize size_of(const Lead& lead) {
    return {static_cast<double>(lead.seeds), static_cast<double>(lead.units)};
}

constexpr double wanted_power = 0.8;

// The probability that a study of this size shows the lead `mean`, with the components of variance of
// the one that was estimated.
double power(const Lead& lead, const StudySize& size, double mean, double level) {
    const double of_seeds = (lead.seed_component + lead.rest_component / size.units) / size.seeds;
    const double of_units = lead.unit_component / size.units;
    const double variance = of_seeds + of_units;
    if (!(variance > 0.0)) return mean > 0.0 ? 1.0 : 0.0;
    const double seed_freedom = 2 * (size.seeds - 1);
    const double freedom =
        std::max(1.0, variance * variance /
                          (of_seeds * of_seeds / seed_freedom + of_units * of_units / (size.units - 1)));
    // Of large numbers noncentral t is the shifted normal.
    constexpr double large = 2000.0;
    const double shift = mean / std::sqrt(variance);
    if (freedom > large || shift > 30.0)
        return 1.0 - normal_cdf(student_quantile(freedom, 1 - level / 2) - shift);
    return noncentral_upper_tail(freedom, shift, student_quantile(freedom, 1 - level / 2));
}

}  // namespace

CandidateOutcomes::CandidateOutcomes(std::vector<SeedOutcomes> seeds) : seeds_(std::move(seeds)) {
    if (seeds_.empty() || !std::all_of(seeds_.begin(), seeds_.end(), [&](const SeedOutcomes& row) {
            return on_the_same_units(row, seeds_.front());
        }))
        return;
    SeedsByUnits rows;
    for (const SeedOutcomes& row : seeds_) rows.emplace_back(row.influences);
    table_ = crossed_table(rows, seeds_.front().strata, seeds_.front().folds);
    table_->mean = mean();
    table_->items = static_cast<double>(seeds_.front().items);
    correct_.assign(seeds_.front().units.size(), 0.0);
    for (const SeedOutcomes& row : seeds_)
        for (std::size_t i = 0; i < correct_.size(); ++i)
            correct_[i] += row.correct[i] / static_cast<double>(seeds_.size());
}

void moderate_seeds(std::vector<CandidateOutcomes>& candidates) {
    std::vector<CrossedTable*> tables;
    for (CandidateOutcomes& candidate : candidates)
        if (candidate.table_) tables.push_back(&*candidate.table_);
    moderate_seeds(tables);
}

double CandidateOutcomes::mean() const {
    double sum = 0.0;
    for (const SeedOutcomes& row : seeds_) sum += row.score;
    return sum / static_cast<double>(seeds_.size());
}

Interval ScoreEstimate::interval_about(double score) const {
    return score_interval(score, standard_error * standard_error, degrees_of_freedom, units);
}

std::optional<ScoreEstimate> score_of(const CandidateOutcomes& outcomes) {
    if (outcomes.seeds().empty()) return std::nullopt;
    if (!outcomes.table()) {
        // Parts of their own: the seeds' scores alone.
        std::vector<double> scores;
        std::set<std::int64_t> units;
        for (const SeedOutcomes& row : outcomes.seeds()) {
            scores.push_back(row.score);
            units.insert(row.units.begin(), row.units.end());
        }
        const auto seeds = static_cast<double>(scores.size());
        return ScoreEstimate{
            .mean = outcomes.mean(),
            .standard_error = std::sqrt(squares_about(scores, outcomes.mean()) / (seeds - 1) / seeds),
            .degrees_of_freedom = seeds - 1,
            .units = static_cast<double>(units.size())};
    }
    const CrossedTable& table = *outcomes.table();
    CrossedEstimate estimate = crossed_mean(table);
    if (!outcomes.seeds().front().folds.empty())
        estimate = with_folds(estimate, table.unit_means, outcomes.seeds().front());
    return ScoreEstimate{.mean = estimate.mean,
                         .standard_error = std::sqrt(estimate.variance),
                         .degrees_of_freedom = std::max(1.0, estimate.degrees_of_freedom),
                         .units = harmonic_units(table)};
}

double Lead::p_of_at_least(double lead) const {
    if (!(standard_error > 0.0)) return mean < lead ? 0.0 : 1.0;
    return student_upper_tail(degrees_of_freedom, (lead - mean) / standard_error);
}

double Lead::p_of_at_most(double lead) const {
    if (!(standard_error > 0.0)) return mean > lead ? 0.0 : 1.0;
    return student_upper_tail(degrees_of_freedom, (mean - lead) / standard_error);
}

std::int64_t validation_items_of(const CandidateOutcomes& outcomes) {
    std::set<std::int64_t> distinct;
    double items = 0.0;
    double units = 0.0;
    for (const SeedOutcomes& row : outcomes.seeds()) {
        if (!outcomes.table() || distinct.empty()) distinct.insert(row.units.begin(), row.units.end());
        items += static_cast<double>(row.items);
        units += static_cast<double>(row.units.size());
    }
    return units > 0.0 ? std::llround(static_cast<double>(distinct.size()) * items / units) : 0;
}

std::optional<Lead> lead_of(const CandidateOutcomes& first, const CandidateOutcomes& second) {
    if (first.seeds().empty() || second.seeds().empty()) return std::nullopt;
    if (first.table() && second.table() && on_the_same_units(first.seeds().front(), second.seeds().front()))
        return common_lead(first, second);
    return partial_lead(first, second);
}

std::vector<std::optional<Lead>> leads_over(const CandidateOutcomes& first,
                                            const std::vector<const CandidateOutcomes*>& others) {
    std::vector<std::optional<Lead>> leads;
    std::vector<double> p_values;
    for (const CandidateOutcomes* other : others) {
        leads.push_back(lead_of(first, *other));
        if (leads.back()) p_values.push_back(leads.back()->p_value);
    }
    const std::vector<double> adjusted = holm_adjusted(p_values);
    std::size_t next = 0;
    for (std::optional<Lead>& lead : leads)
        if (lead) lead->adjusted_p = adjusted[next++];
    return leads;
}

bool is_enough(const Lead& lead) {
    return lead.seeds >= fewest_seeds && lead.first_only + lead.second_only >= fewest_differing_units;
}

bool is_ahead(const std::optional<Lead>& lead) {
    return lead && lead->mean > 0.0 && lead->adjusted_p < significance_level && is_enough(*lead);
}

bool is_equivalent(const std::optional<Lead>& lead, double margin, double level) {
    return lead && lead->seeds >= fewest_seeds && lead->p_of_at_least(margin) < level &&
           lead->p_of_at_most(-margin) < level;
}

NeededEvidence needed_evidence(const Lead& lead) {
    if (lead.rule != LeadRule::crossed || lead.mean <= 0.0) return {};
    const StudySize now = size_of(lead);
    const auto number_at = [&](double mean, double StudySize::*grows,
                               double scale) -> std::optional<std::int64_t> {
        if (mean <= 0.0) return std::nullopt;
        const auto is_enough_of = [&](double number) {
            StudySize size = now;
            size.*grows = number / scale;
            return power(lead, size, mean, significance_level) >= wanted_power;
        };
        constexpr double most = 1e9;
        double high = 2 * scale;
        while (high < most && !is_enough_of(high)) high *= 2;
        if (high >= most) return std::nullopt;
        double low = std::max(2.0 * scale, high / 2);
        if (is_enough_of(low)) return static_cast<std::int64_t>(std::ceil(low));
        while (high - low > 1.0) {
            const double middle = std::floor((low + high) / 2);
            (is_enough_of(middle) ? high : low) = middle;
        }
        return static_cast<std::int64_t>(high);
    };
    const auto numbers = [&](double StudySize::*grows, double scale) {
        return NeededNumber{number_at(lead.mean, grows, scale), number_at(lead.interval.high, grows, scale),
                            number_at(lead.interval.low, grows, scale)};
    };
    return {.seeds = numbers(&StudySize::seeds, 1.0),
            .items = numbers(&StudySize::units, std::max(1.0, static_cast<double>(lead.items) /
                                                                  static_cast<double>(lead.units)))};
}

double detectable_lead(const Lead& lead, std::int64_t seeds, double level) {
    StudySize size = size_of(lead);
    size.seeds = static_cast<double>(seeds);
    double low = 0.0;
    double high = 1.0;
    for (int step = 0; step < 40; ++step) {
        const double middle = (low + high) / 2;
        (power(lead, size, middle, level) < wanted_power ? low : high) = middle;
    }
    return high;
}

}  // namespace jevrin::inline v1
