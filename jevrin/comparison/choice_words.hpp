// The choice as text.
#pragma once

#include "jevrin/comparison/choice.hpp"

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct ChoiceCounts {
    std::int64_t tied = 0;   // the best and those that the evidence does not put behind it
    std::int64_t level = 0;  // of them, those that may be chosen
};

// Fills summary and reasons of a choice that is decided.
void put_into_words(Choice& choice, const ChoiceCounts& counts, const std::vector<std::string>& set_apart);

// "93 ms of training per run", "4,550 trained parameters".
std::string spoken_cost(const RankedCandidate& candidate, Cost cost);

}  // namespace jevrin::inline v1
