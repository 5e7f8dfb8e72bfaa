// The precision of what a training pass keeps.
#pragma once

#include "jevrin/base/enumeration.hpp"

namespace jevrin::inline v1 {

// How a training pass keeps what forward computes and backward reads. bfloat16 is half as large: forward
// computes with float32 as it is, backward with what was rounded.
enum class KeptActivations { float32, bfloat16 };
const EnumNames<KeptActivations>& names_of(KeptActivations);

}  // namespace jevrin::inline v1
