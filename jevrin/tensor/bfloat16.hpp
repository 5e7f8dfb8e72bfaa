// The 16-bit floating-point format bfloat16: the upper half of a float32, with 8 bits of precision and the
// same range.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

// To the nearest value, halves to the even one; infinities and NaN stay what they are.
void narrow_to_bfloat16(std::int64_t count, const float* values, std::uint16_t* narrow);

void widen_bfloat16(std::int64_t count, const std::uint16_t* narrow, float* values);

}  // namespace jevrin::inline v1
