#include "jevrin/comparison/lead.hpp"

#include "jevrin/metrics/crossed.hpp"
#include "jevrin/metrics/significance.hpp"

#include <algorithm>
#include <cmath>
#include <set>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

bool all_on_the_same_units(const CandidateOutcomes& first, const CandidateOutcomes& second) {
    const auto same = [&](const RunOutcomes& run) {
        return run.fold == first.front().fold && run.units == first.front().units;
    };
    return std::all_of(first.begin(), first.end(), same) && std::all_of(second.begin(), second.end(), same);
}

// Scores lie from 0 to 1, and so do their differences from -1 to 1.
Interval within_scores(const Interval& interval) {
    return {std::max(-1.0, interval.low), std::min(1.0, interval.high)};
}

SeedsByItems table_of(const CandidateOutcomes& runs) {
    SeedsByItems table;
    for (const RunOutcomes& run : runs) table.emplace_back(run.influences);
    return table;
}

// Sums over runs of correct predictions, the first's less the second's.
void count_units(Lead& lead, const std::vector<double>& sums) {
    for (const double sum : sums) {
        lead.first_only += sum > 1e-9;
        lead.second_only += sum < -1e-9;
    }
    lead.exact_p = mcnemar_p_value(lead.first_only, lead.second_only);
}

Lead crossed_lead(const CandidateOutcomes& first, const CandidateOutcomes& second) {
    const CrossedEstimate estimate = crossed_difference(table_of(first), table_of(second));
    Lead lead{.rule = estimate.seeds == 1 ? LeadRule::one_seed : LeadRule::crossed,
              .mean = estimate.mean,
              .interval = within_scores(estimate.interval),
              .p_value = estimate.p_value,
              .adjusted_p = estimate.p_value,
              .seeds = estimate.seeds,
              .items = first.front().items,
              .units = estimate.items,
              .seed_component = estimate.seed_component,
              .unit_component = estimate.item_component,
              .rest_component = estimate.rest_component};
    std::vector<double> sums(first.front().units.size(), 0.0);
    for (const auto* runs : {&first, &second})
        for (const RunOutcomes& run : *runs)
            for (std::size_t i = 0; i < sums.size(); ++i)
                sums[i] += (runs == &first ? 1.0 : -1.0) * run.correct[i] / static_cast<double>(runs->size());
    count_units(lead, sums);
    return lead;
}

std::optional<Lead> resampled_lead(const CandidateOutcomes& first, const CandidateOutcomes& second) {
    CandidateOutcomes ours;
    CandidateOutcomes theirs;
    for (const RunOutcomes& run : first)
        for (const RunOutcomes& other : second)
            if (run.seed == other.seed && run.fold == other.fold && run.units == other.units) {
                ours.push_back(run);
                theirs.push_back(other);
            }
    if (ours.empty()) return std::nullopt;
    if (ours.size() == 1) return crossed_lead(ours, theirs);
    std::vector<double> differences;
    double share = 0.0;
    std::unordered_map<std::int64_t, double> by_unit;
    for (std::size_t pair = 0; pair < ours.size(); ++pair) {
        differences.push_back(ours[pair].score - theirs[pair].score);
        const auto learned = static_cast<double>(
            std::max<std::int64_t>(1, std::min(ours[pair].training_items, theirs[pair].training_items)));
        share += static_cast<double>(ours[pair].items) / learned / static_cast<double>(ours.size());
        for (std::size_t i = 0; i < ours[pair].units.size(); ++i)
            by_unit[ours[pair].units[i]] += ours[pair].correct[i] - theirs[pair].correct[i];
    }
    const ResampledMean mean = resampled_mean(differences, share);
    Lead lead{.rule = LeadRule::resampled,
              .mean = mean.mean,
              .interval = within_scores(mean.interval),
              .p_value = mean.p_value,
              .adjusted_p = mean.p_value,
              .seeds = static_cast<std::int64_t>(ours.size()),
              .items = validation_items_of(ours),
              .units = static_cast<std::int64_t>(by_unit.size())};
    std::vector<double> sums;
    for (const auto& [unit, sum] : by_unit) sums.push_back(sum);
    count_units(lead, sums);
    return lead;
}

std::optional<std::int64_t> whole(double number) {
    constexpr double most = 1e9;
    if (!(number < most)) return std::nullopt;
    return static_cast<std::int64_t>(std::ceil(number));
}

}  // namespace

std::int64_t validation_items_of(const CandidateOutcomes& runs) {
    std::set<std::int64_t> distinct;
    double items = 0.0;
    double units = 0.0;
    for (const RunOutcomes& run : runs) {
        distinct.insert(run.units.begin(), run.units.end());
        items += static_cast<double>(run.items);
        units += static_cast<double>(run.units.size());
    }
    return units > 0.0 ? std::llround(static_cast<double>(distinct.size()) * items / units) : 0;
}

std::optional<Lead> lead_of(const CandidateOutcomes& first, const CandidateOutcomes& second) {
    if (first.empty() || second.empty()) return std::nullopt;
    if (all_on_the_same_units(first, second)) return crossed_lead(first, second);
    return resampled_lead(first, second);
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

bool is_ahead(const std::optional<Lead>& lead) {
    constexpr double level = 0.05;
    return lead && lead->mean > 0.0 && lead->adjusted_p < level && lead->seeds >= fewest_seeds &&
           lead->first_only + lead->second_only >= fewest_differing_units;
}

NeededEvidence needed_evidence(const Lead& lead) {
    if (lead.rule != LeadRule::crossed || lead.mean == 0.0) return {};
    const double wanted = std::pow(lead.mean / (1.96 + 0.84), 2);  // of the variance of the mean
    const auto seeds = static_cast<double>(lead.seeds);
    const auto units = static_cast<double>(lead.units);
    const double items_of_unit = static_cast<double>(lead.items) / units;
    const double by_seeds = wanted - lead.unit_component / units;
    const double by_units = wanted - lead.seed_component / seeds;
    NeededEvidence needed;
    if (by_seeds > 0.0) needed.seeds = whole((lead.seed_component + lead.rest_component / units) / by_seeds);
    if (by_units > 0.0)
        needed.items = whole(items_of_unit * (lead.unit_component + lead.rest_component / seeds) / by_units);
    return needed;
}

}  // namespace jevrin::inline v1
