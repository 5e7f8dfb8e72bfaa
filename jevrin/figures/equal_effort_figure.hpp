// Regimes at equal tuning effort as a figure.
#pragma once

#include "jevrin/comparison/choice.hpp"

#include <filesystem>
#include <string>

namespace jevrin::inline v1 {

// The expected best score of k variants of each regime (Choice::equal_effort), a line each. InputError when
// there are not several regimes, or none has several variants.
void draw_equal_effort(const Choice& choice, const std::string& title, const std::filesystem::path& file);

}  // namespace jevrin::inline v1
