// What the evidence says of every pair of candidates, and of which may be the best.
//
//     const StudyVerdicts verdicts = judge({&first, &second, &third}, {.margin = 0.01});   // best mean first
//     verdicts.clear, verdicts.pair(0, 1).verdict, verdicts.may_be_best[2] ...
//
// docs/choice.md states the tests, and what studies of known truth say of them.
#pragma once

#include "jevrin/comparison/lead.hpp"

#include <cstddef>
#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Of one candidate over another, with a lower mean.
enum class Verdict {
    better,      // a significant difference, corrected for the number of all pairs (Holm 1979)
    equivalent,  // shown to differ by less than the margin
    unknown,
};
std::string name_of(Verdict verdict);

struct VerdictSettings {
    double margin = 0.01;               // the smallest difference of scores that matters
    double level = significance_level;  // of every test
};

struct PairVerdict {
    std::size_t first = 0;  // places among the candidates; the first has the higher mean
    std::size_t second = 0;
    std::optional<Lead> lead;  // of the first; none: nothing pairs them
    Verdict verdict = Verdict::unknown;
};

struct StudyVerdicts {
    std::vector<PairVerdict> pairs;  // (0, 1), (0, 2), ... (1, 2), ...
    // Each comparison of the first with another is significant by itself: an intersection-union test, which
    // needs no correction for their number (Berger 1982).
    bool clear = false;
    // The confidence set of the best: it holds the truly best candidate in 95 of 100 studies (Gupta 1965, Hsu
    // 1981).
    std::vector<bool> may_be_best;
    // Shown to be worse than the truly best by less than the margin, all of them together (Hsu 1981).
    std::vector<bool> non_inferior;

    const PairVerdict& pair(std::size_t first, std::size_t second) const;  // first < second
};

// done of total pairs.
using PairProgress = std::function<void(std::int64_t done, std::int64_t total)>;

// candidates: best mean first, at least one.
StudyVerdicts judge(const std::vector<const CandidateOutcomes*>& candidates,
                    const VerdictSettings& settings = {}, const PairProgress& progress = {});

// Looks at the evidence of a study to which seeds are added until it is clear.
struct SeedLooks {
    std::vector<std::int64_t> earlier = {};  // how many seeds there were at each, ascending
    std::optional<std::int64_t> most = {};   // that will ever be added, when the plan says so
};
// The level at which this look may test so that all looks together have the level: with a most number of
// seeds what a spending function allots (Lan & DeMets 1983, level * ln(1 + (e - 1) seeds / most)), and
// otherwise the level over the number of looks.
double level_of_look(const SeedLooks& looks, std::int64_t seeds, double level = significance_level);

// The level of one of so many one-sided comparisons with a common control at which all of them together have
// this level (Dunnett 1955, with correlations of 1/2).
double level_with_control(double level, std::size_t comparisons);

}  // namespace jevrin::inline v1
