// The choice as text.
#pragma once

#include "jevrin/comparison/choice.hpp"

#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Fills summary and reasons of a choice that is decided.
void put_into_words(Choice& choice, const SeedLooks& looks, const std::vector<std::string>& set_apart);

// Of a candidate beside the best: "worse", "equivalent", "not the best" (outside the confidence set),
// "unknown", or "few seeds".
std::string spoken_verdict(const RankedCandidate& candidate);

// "93 ms of training per run", "4,550 trained parameters".
std::string spoken_cost(const RankedCandidate& candidate, Cost cost);

}  // namespace jevrin::inline v1
