// Sums that several chunks of a loop made of the same numbers, added in the order of the chunks.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

// sum[i] = partials[i] + partials[count + i] + ..., for each of count numbers; chunks is positive.
void add_partials(std::int64_t chunks, std::int64_t count, const float* partials, float* sum);

}  // namespace jevrin::inline v1
