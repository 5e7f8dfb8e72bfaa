// The lead of one candidate over another, with its interval and p-value.
//
//     CandidateOutcomes ours = ..., theirs = ...;          // a row for each run
//     if (const std::optional<Lead> lead = lead_of(ours, theirs)) ... lead->mean, lead->interval ...
//     leads_over(ours, {&theirs, &others});                // p-values corrected for the number of
//     comparisons
#pragma once

#include "jevrin/metrics/intervals.hpp"

#include <cstdint>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {

// One run, unit by unit: items that belong together (images of one object, copies) are one piece of evidence.
struct RunOutcomes {
    std::int64_t seed = 0;
    std::int64_t fold = 0;
    std::vector<std::int64_t> units = {};  // which, ascending; at least two
    std::vector<double> influences = {};   // of each on the run's score: their mean is the score
    std::vector<double> correct = {};      // the fraction of its items that is predicted correctly
    double score = 0.0;
    std::int64_t items = 0;           // of all units
    std::int64_t training_items = 0;  // that the run learned from
};
// The runs of one candidate.
using CandidateOutcomes = std::vector<RunOutcomes>;

// What the interval of a lead rests on.
enum class LeadRule {
    crossed,    // seeds and units, both drawn: crossed_difference()
    one_seed,   // the units alone, since one of the two has a single seed: the variance between seeds is
                // unknown
    resampled,  // pairs of runs on folds, or on parts redrawn for each seed: resampled_mean()
};

struct Lead {
    LeadRule rule = LeadRule::crossed;
    double mean = 0.0;  // of the metric
    Interval interval;  // 95 %
    double p_value = 1.0;
    double adjusted_p = 1.0;  // corrected for the number of comparisons made together
    std::int64_t seeds = 0;   // of the candidate that has fewer; resampled: pairs of runs
    std::int64_t items = 0;
    std::int64_t units = 0;  // that they are
    // Units of which the first's runs predict a larger fraction correctly, and the second's; and the exact
    // test of McNemar on them, which knows nothing of the variance between seeds.
    std::int64_t first_only = 0;
    std::int64_t second_only = 0;
    double exact_p = 1.0;
    // Of the difference, as in CrossedEstimate; 0 by other rules.
    double seed_component = 0.0;
    double unit_component = 0.0;
    double rest_component = 0.0;
};

// How many validation items the runs saw: one part, all folds, or parts of each seed.
std::int64_t validation_items_of(const CandidateOutcomes& runs);

// With one set of items for all runs of both: crossed, or one_seed. Otherwise runs are paired by seed and
// fold where they saw the same items. Nothing when there is no such pair.
std::optional<Lead> lead_of(const CandidateOutcomes& first, const CandidateOutcomes& second);

// The leads of one candidate over others, with their p-values corrected for their number (Holm 1979).
std::vector<std::optional<Lead>> leads_over(const CandidateOutcomes& first,
                                            const std::vector<const CandidateOutcomes*>& others);

// With fewer seeds nothing is called a difference: the variance between seeds is then known so badly that 95
// % intervals cover the truth in as few as 92 of 100 studies (docs/choice.md).
inline constexpr std::int64_t fewest_seeds = 3;
// With fewer units on which two candidates differ, nothing is called a difference either: if all of them
// spoke for one candidate, chance alone would do that in more than 5 of 100 studies (2 * 0.5^5).
inline constexpr std::int64_t fewest_differing_units = 6;

// Whether the evidence puts the first ahead: adjusted_p below 0.05, over enough seeds and items.
bool is_ahead(const std::optional<Lead>& lead);

// What would show a lead as large as this one in 8 of 10 studies, if it is true.
struct NeededEvidence {
    std::optional<std::int64_t> seeds;  // of each candidate, on the same items; nothing: no number would do
    std::optional<std::int64_t> items;  // with the same seeds, likewise
};
// For crossed leads; from the normal approximation, (1.96 + 0.84) standard errors.
NeededEvidence needed_evidence(const Lead& lead);

}  // namespace jevrin::inline v1
