// The lead of one candidate over another, with its interval and p-value.
//
//     const CandidateOutcomes ours(...), theirs(...);      // a row for each seed
//     if (const std::optional<Lead> lead = lead_of(ours, theirs)) ... lead->mean, lead->interval ...
//     leads_over(ours, {&theirs, &others});                // p-values corrected for the number of
//     comparisons
#pragma once

#include "jevrin/metrics/crossed.hpp"
#include "jevrin/metrics/intervals.hpp"

#include <cstdint>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {

// One seed, unit by unit: items that belong together (images of one object, copies) are one piece of
// evidence. The folds of a seed together see every item once, and make one row.
struct SeedOutcomes {
    std::int64_t seed = 0;
    std::vector<std::int64_t> units = {};    // which, ascending; at least two
    std::vector<std::uint32_t> strata = {};  // the class of each, for scores over classes; empty: one stratum
    std::vector<std::int64_t> folds = {};    // that each was validated in; empty: no folds
    std::vector<double> influences = {};     // of each on the seed's score, about the score
    std::vector<double> correct = {};        // the fraction of its items that is predicted correctly
    double score = 0.0;
    std::int64_t items = 0;           // of all units
    std::int64_t training_items = 0;  // that a run learned from
};

// The seeds of one candidate.
class CandidateOutcomes {
  public:
    CandidateOutcomes() = default;
    explicit CandidateOutcomes(std::vector<SeedOutcomes> seeds);

    const std::vector<SeedOutcomes>& seeds() const { return seeds_; }
    // Of the seeds by their units, about the mean of their scores; none when they saw different units.
    const std::optional<CrossedTable>& table() const { return table_; }
    double mean() const;  // of the scores
    // Of each unit of the table, over seeds, the fraction that is predicted correctly.
    const std::vector<double>& correct() const { return correct_; }

    friend void moderate_seeds(std::vector<CandidateOutcomes>& candidates);

  private:
    std::vector<SeedOutcomes> seeds_;
    std::optional<CrossedTable> table_;
    std::vector<double> correct_;
};

// moderate_seeds() of the tables of all candidates of a study.
void moderate_seeds(std::vector<CandidateOutcomes>& candidates);

// What a candidate's mean is worth.
struct ScoreEstimate {
    double mean = 0.0;
    double standard_error = 0.0;  // over seeds and units; with one seed over units alone
    double degrees_of_freedom = 1.0;
    double units = 1.0;  // that it rests on; of means over classes their harmonic number

    // 95 %, by score_interval(): never of width 0, within 0 and 1.
    Interval interval() const { return interval_about(mean); }
    Interval interval_about(double score) const;
};
// Nothing without seeds, or for one seed without a table.
std::optional<ScoreEstimate> score_of(const CandidateOutcomes& outcomes);

// What the interval of a lead rests on.
enum class LeadRule {
    crossed,    // seeds and units, both drawn: crossed_difference()
    one_seed,   // the units alone, since one of the two has a single seed: the variance between seeds is
                // unknown
    folds,      // seeds, units, and the training parts of the folds
    resampled,  // pairs of seeds on parts redrawn for each: resampled_mean()
};

struct Lead {
    LeadRule rule = LeadRule::crossed;
    double mean = 0.0;  // of the metric
    double standard_error = 0.0;
    double degrees_of_freedom = 1.0;  // of Student's t
    Interval interval;                // 95 %
    double p_value = 1.0;             // two-sided, of no lead
    double adjusted_p = 1.0;          // corrected for the number of comparisons made together
    std::int64_t seeds = 0;  // of the candidate that has fewer; folds: its runs; resampled: pairs of seeds
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

    // One-sided, of a true lead of at least (at most) so much.
    double p_of_at_least(double lead) const;
    double p_of_at_most(double lead) const;
};

// How many validation items the seeds saw: one part, all folds, or parts of each seed.
std::int64_t validation_items_of(const CandidateOutcomes& outcomes);

// Over the seeds of both that saw the same units: crossed, one_seed or folds. Where each seed saw units of
// its own, seeds are paired: resampled. Nothing when no units are common.
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

// The level of every test.
inline constexpr double significance_level = 0.05;

// Whether there are enough seeds and differing units for any conclusion.
bool is_enough(const Lead& lead);
// Whether the evidence puts the first ahead: adjusted_p below 0.05, and enough of it.
bool is_ahead(const std::optional<Lead>& lead);
// Whether both are shown to differ by less than the margin (two one-sided tests, Schuirmann 1987). With fewer
// than three seeds nothing is.
bool is_equivalent(const std::optional<Lead>& lead, double margin, double level = significance_level);

// How many would show the lead in 8 of 10 studies, if it is as large as estimated; at the ends of the lead's
// interval, least if it is as large as its high end.
struct NeededNumber {
    std::optional<std::int64_t> expected;  // nothing: no number would do
    std::optional<std::int64_t> least;
    std::optional<std::int64_t> most;
};
struct NeededEvidence {
    NeededNumber seeds;  // of each candidate, on the same items
    NeededNumber items;  // with the same seeds
};
// For crossed leads; by the power of Student's test (noncentral t) with the components of variance as
// estimated.
NeededEvidence needed_evidence(const Lead& lead);

// The lead that a study of this shape would show in 8 of 10, at this two-sided level, with so many seeds of
// each candidate; by the components of variance of a crossed lead.
double detectable_lead(const Lead& lead, std::int64_t seeds, double level = significance_level);

}  // namespace jevrin::inline v1
