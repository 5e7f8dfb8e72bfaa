// A choice in words.
#pragma once

#include "jevrin/comparison/choice.hpp"

#include <string>
#include <vector>

namespace jevrin::app {

// The paragraph, the ranking with the evidence, what is set apart.
std::string choice_text(const Choice& choice);

// A line for each pair.
std::string pairs_text(const std::vector<CandidatePair>& pairs);

}  // namespace jevrin::app
