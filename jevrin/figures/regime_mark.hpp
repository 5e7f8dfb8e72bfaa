// The mark of each regime, the same in every figure.
#pragma once

#include "jevrin/plan/regime.hpp"

#include <string>

namespace jevrin::inline v1 {

// gnuplot's number of a filled mark: triangle for scratch, circle for frozen, square for partial.
int regime_mark(Regime regime);
// The same as a character, for lists beside figures.
std::string regime_sign(Regime regime);

}  // namespace jevrin::inline v1
