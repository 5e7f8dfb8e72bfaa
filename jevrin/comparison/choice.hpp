// The choice: which candidate to use, on what evidence.
//
// Candidates are ranked by the mean over seeds of the plan's metric on the validation part, each run at its
// best epoch. Two things vary: which items happen to be in the validation part, and which seed a run got. The
// difference between two candidates is therefore judged from a table of seeds by items (crossed_interval);
// the metric of a run enters item by item through its jackknife pseudo-values. docs/choice.md states the
// formulas, and what studies of known truth say of them.
#pragma once

#include "jevrin/comparison/lead.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/metrics/intervals.hpp"

#include <optional>
#include <string>
#include <vector>

namespace jevrin {

struct RankedCandidate {
    std::string candidate;
    std::string regime;
    double mean = 0.0;                 // of the metric over seeds
    std::optional<Interval> interval;  // over seeds; none for one seed
    std::int64_t runs = 0;
    double seconds = 0.0;  // of training, mean over seeds
    std::int64_t parameters = 0;
    std::int64_t trainable_parameters = 0;
    std::int64_t multiplications = 0;  // forward, for one image; 0: not recorded
    std::int64_t model_bytes = 0;      // of a run's model file
    // The best candidate's lead over this one, paired by seed and item; none for the best itself, or when
    // they share no seed.
    std::optional<CrossedInterval> behind;
};

struct Choice {
    Metric metric = Metric::balanced_accuracy;
    std::string chosen;
    bool clear = false;                    // the evidence separates the best from every other candidate
    std::vector<RankedCandidate> ranking;  // best first
    std::vector<std::string> reasons;      // sentences
    std::int64_t test_looks = 0;
};

// Only finished runs count; unfinished ones are named in the reasons. When the evidence does not separate the
// best from others, the cheapest to train of those is chosen (of several that cost the same within a quarter
// and a second, the best ranked one); with fewer than three seeds,
// of those that the images alone do not put behind. InputError when no run is finished.
Choice choose(const Ledger& ledger, const StudyRecord& study);

}  // namespace jevrin
