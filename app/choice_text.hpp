// A choice in words.
#pragma once

#include "jevrin/comparison/choice.hpp"

#include <string>

namespace jevrin::app {

// The verdict, the ranking, the evidence.
std::string choice_text(const Choice& choice);

}  // namespace jevrin::app
