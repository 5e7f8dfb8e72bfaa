// What selecting the best of several candidates on the same units does to its score, and how often another
// draw of seeds and units would select somebody else.
#pragma once

#include "jevrin/comparison/verdicts.hpp"

#include <cstdint>
#include <functional>
#include <vector>

namespace jevrin::inline v1 {

struct SelectionOdds {
    double probability_best = 0.0;  // share of draws in which it has the highest score
    double expected_loss = 0.0;     // mean of how much the best of a draw is above it
    double on_front = 0.0;          // share of draws in which no other is better at the same cost or less
    // How much its place in the ranking inflates its score: the mean over draws of what whoever takes that
    // place gained by the draw; not below 0.
    double inflation = 0.0;
};

// Whether a candidate costs no more than another, by their places.
using CostsNoMore = std::function<bool(std::size_t candidate, std::size_t than)>;

// Of candidates in the order of their mean, best first, on the same units; the odds of those that saw others,
// which no draw can compare, are 0. From a bootstrap of seeds and units together (the pigeonhole bootstrap:
// Owen 2007): each draw takes units with replacement, the same for all candidates, and seeds of each
// candidate with replacement, their deviations scaled so that a drawn mean varies as the estimate does.
// draws: at least 1. The same outcomes give the same odds.
std::vector<SelectionOdds> selection_odds(const std::vector<const CandidateOutcomes*>& candidates,
                                          const StudyVerdicts& verdicts, const CostsNoMore& costs_no_more,
                                          std::int64_t draws = 1000, const PairProgress& progress = {});

}  // namespace jevrin::inline v1
