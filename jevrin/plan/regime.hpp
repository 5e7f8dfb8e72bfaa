// The three ways of training that a study compares.
#pragma once

#include "jevrin/base/enumeration.hpp"

namespace jevrin::inline v1 {

// scratch: all weights start random and train. frozen: the backbone is fixed, the head trains. partial: the
// backbone trains from a boundary on, and the head.
enum class Regime { scratch, frozen, partial };
const EnumNames<Regime>& names_of(Regime);

}  // namespace jevrin::inline v1
