// The choice: which candidate to use, on what evidence.
//
//     const StudyEvidence evidence = gather_evidence(ledger, study);
//     const Choice choice = choose(ledger, study, evidence, {.cost = Cost::operations});
//     choice.chosen, choice.clear, choice.summary ...
//
// Candidates are ranked by the mean over seeds of the plan's metric on the validation part. What the evidence
// says of every pair is a verdict (judge()); the best is recommended, unless a cheaper one is shown to be
// worse by less than the margin at most. docs/choice.md states the formulas, and what studies of known truth
// say of them.
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/comparison/evidence.hpp"
#include "jevrin/comparison/lead.hpp"
#include "jevrin/comparison/selection.hpp"
#include "jevrin/comparison/verdicts.hpp"

#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// What "cheap" means.
enum class Cost {
    training_seconds,    // of a run, mean; within a quarter and a second equal
    trained_parameters,  // how many numbers training changes
    operations,          // multiplications of one prediction
    file_size,           // of a run's model, in bytes
    latency,             // milliseconds of one image by itself, measured; within a quarter equal
    batch_time,          // milliseconds of each image of a batch, likewise
    prediction_memory,   // bytes of weights and buffers
};
const EnumNames<Cost>& names_of(Cost);

// Times are noisy: what takes a quarter longer (and a second, of training) costs no more.
bool costs_no_more(double cost, double than, Cost kind);

// Which candidate is recommended.
enum class ChoiceRule {
    margin,              // the best, unless a cheaper one is shown to be worse by less than the margin
    best,                // the best
    one_standard_error,  // the cheapest within one standard error of the best's score (Breiman et al. 1984)
};
const EnumNames<ChoiceRule>& names_of(ChoiceRule);

struct ChoiceSettings {
    Cost cost = Cost::training_seconds;
    ChoiceRule rule = ChoiceRule::margin;
    std::optional<double> margin = {};  // the smallest difference that matters; none: that of the study
    SeedLooks looks = {};               // at fewer seeds, before this one
    PairProgress progress = {};         // of pairs and draws
};

struct RankedCandidate {
    std::string candidate;
    Regime regime = Regime::scratch;
    std::optional<ExternalOrigin> external = {};  // of its first run; none: trained by this library
    double mean = 0.0;                            // of the metric over seeds: what is compared
    std::optional<Interval> interval;  // 95 %, over seeds and units; with one seed over units alone
    std::optional<double> standard_error = {};
    double best_epoch_mean = 0.0;  // each run at its best epoch, whose selection inflates it
    std::int64_t runs = 0;
    std::int64_t seeds = 0;
    std::int64_t failed_seeds = 0;  // not among them; scores are of those that did not fail
    double seconds = 0.0;           // of training, mean over runs; NaN: not recorded
    std::int64_t parameters = 0;    // 0: not recorded, as are the next
    std::int64_t trainable_parameters = 0;
    std::int64_t multiplications = 0;  // forward, for one image; 0: not recorded
    std::int64_t model_bytes = 0;      // of a run's model file; 0: it is gone
    // The least of its runs; none where they were not measured.
    std::optional<PredictionCost> prediction_cost = {};
    // The best candidate's lead over this one; none for the best itself, or when nothing pairs them.
    std::optional<Lead> behind;
    Verdict verdict = Verdict::unknown;  // of the best over this one
    bool may_be_best = true;             // in the confidence set of the best
    bool non_inferior = false;           // shown to be worse than the truly best by less than the margin
    SelectionOdds odds = {};
    bool pareto_optimal = false;  // no other is better at the same cost or less

    // Infinite when it is not known.
    double cost(Cost kind) const;
    // Of the share of seeds that fail, 95 %, exact; only when some did.
    std::optional<Interval> failure_interval() const;
};

// A score without what having been selected adds to it.
struct CorrectedScore {
    double mean = 0.0;
    Interval interval;  // 95 %
};

// The expected best score of k variants of a regime, were they drawn from those that were tried (Dodge et al.
// 2019).
struct EffortCurve {
    Regime regime = Regime::scratch;
    std::vector<double> expected_best;  // of 1, 2, ... variants, as many as there are
};

struct Choice {
    Metric metric = Metric::balanced_accuracy;
    Cost cost = Cost::training_seconds;
    ChoiceRule rule = ChoiceRule::margin;
    double margin = 0.0;
    double level = significance_level;  // of every test, after earlier looks at fewer seeds
    std::string chosen;
    bool clear = false;                    // the best is better than every other, each comparison by itself
    std::vector<RankedCandidate> ranking;  // best first
    std::vector<PairVerdict> pairs;        // by places in the ranking
    std::string summary;                   // one paragraph
    std::vector<std::string> reasons;      // sentences: the verdict, then the comparisons, what is set apart
    NeededEvidence needed;                 // to separate the first two
    // How much the chosen candidate's place in the ranking inflates its score, and the score without it; none
    // for a single candidate.
    std::optional<double> optimism;
    std::optional<CorrectedScore> corrected;
    std::vector<EffortCurve> equal_effort;  // by regime, where some has several variants
    std::vector<std::pair<std::string, std::int64_t>> rare_classes;  // with fewer than five validation items
    EpochChoice epochs = EpochChoice::cross_fitted;
    bool redraws_training = false;  // by every candidate: seeds vary by their training parts, too
    std::int64_t validation_items = 0;
    std::int64_t validation_units = 0;  // that they are: items that belong together count once
    std::int64_t test_looks = 0;

    const RankedCandidate& chosen_candidate() const;
    std::size_t chosen_place() const;
};

// Only finished runs count. With fewer than three seeds no conclusion is drawn, and the best is recommended.
Choice choose(const Ledger& ledger, const StudyRecord& study, const StudyEvidence& evidence,
              const ChoiceSettings& settings = {});
// The same, gathering the evidence first; InputError when no run is finished.
Choice choose(const Ledger& ledger, const StudyRecord& study, const ChoiceSettings& settings = {});

}  // namespace jevrin::inline v1
