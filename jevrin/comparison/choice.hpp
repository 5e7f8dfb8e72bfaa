// The choice: which candidate to use, on what evidence.
//
//     const StudyEvidence evidence = gather_evidence(ledger, study);
//     const Choice choice = choose(ledger, study, evidence, {.cost = Cost::operations});
//     choice.chosen, choice.clear, choice.summary ...
//
// Candidates are ranked by the mean over seeds of the plan's metric on the validation part, each run at its
// best epoch. Whether the best is really better than another is judged from their runs item by item
// (lead_of()), with the p-values of all these comparisons corrected together (Holm 1979). Of those that
// cannot be told from the best the cheapest is chosen. docs/choice.md states the formulas, and what studies
// of known truth say of them.
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/comparison/evidence.hpp"
#include "jevrin/comparison/lead.hpp"

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
};
const EnumNames<Cost>& names_of(Cost);

struct ChoiceSettings {
    Cost cost = Cost::training_seconds;
};

struct RankedCandidate {
    std::string candidate;
    Regime regime = Regime::scratch;
    double mean = 0.0;                 // of the metric over seeds
    std::optional<Interval> interval;  // 95 %, over seeds and items; with one seed over items alone
    std::int64_t runs = 0;
    std::int64_t seeds = 0;
    double seconds = 0.0;  // of training, mean over runs
    std::int64_t parameters = 0;
    std::int64_t trainable_parameters = 0;
    std::int64_t multiplications = 0;  // forward, for one image; 0: not recorded
    std::int64_t model_bytes = 0;      // of a run's model file; 0: it is gone
    // The best candidate's lead over this one; none for the best itself, or when nothing pairs them.
    std::optional<Lead> behind;
    bool separated = false;       // the evidence puts the best ahead of it
    bool pareto_optimal = false;  // no other is better at the same cost or less

    // Infinite when it is not known.
    double cost(Cost kind) const;
};

struct Choice {
    Metric metric = Metric::balanced_accuracy;
    Cost cost = Cost::training_seconds;
    std::string chosen;
    bool clear = false;                    // the evidence separates the best from every other candidate
    std::vector<RankedCandidate> ranking;  // best first
    std::string summary;                   // one paragraph
    std::vector<std::string> reasons;      // sentences: the verdict, then the comparisons, what is set apart
    NeededEvidence needed;                 // to separate the first two
    // How much selecting the best candidate on these items inflates its score:
    // bootstrap (Efron 1983). Selecting each run's best epoch adds to it.
    std::optional<double> optimism;
    std::int64_t validation_items = 0;
    std::int64_t validation_units = 0;  // that they are: items that belong together count once
    std::int64_t test_looks = 0;

    const RankedCandidate& chosen_candidate() const;
};

// Only finished runs count. With fewer than three seeds the cheapest is taken of those that the images alone
// do not put behind the best.
Choice choose(const Ledger& ledger, const StudyRecord& study, const StudyEvidence& evidence,
              const ChoiceSettings& settings = {});
// The same, gathering the evidence first; InputError when no run is finished.
Choice choose(const Ledger& ledger, const StudyRecord& study, const ChoiceSettings& settings = {});

// Every candidate against every other, their p-values corrected together.
struct CandidatePair {
    std::string first;  // the one with the higher mean
    std::string second;
    std::optional<Lead> lead;  // none: nothing pairs them
};
std::vector<CandidatePair> compare_pairs(const Ledger& ledger, const StudyRecord& study,
                                         const StudyEvidence& evidence);

}  // namespace jevrin::inline v1
