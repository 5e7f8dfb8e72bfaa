// A choice in words.
#pragma once

#include <string>

#include "jevrin/comparison/choice.hpp"

namespace jevrin::app {

// The verdict, the ranking, the evidence.
std::string choice_text(const Choice& choice);

}  // namespace jevrin::app
