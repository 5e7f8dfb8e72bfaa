// Sums down the rows of [rows, columns] arrays.
#pragma once

#include <cstdint>

namespace jevrin {

// sums[c] = the sum of values[r * columns + c] over all rows, added in double within chunks of rows that
// depend on the shape alone.
void sum_rows(std::int64_t rows, std::int64_t columns, const float* values, float* sums);

}  // namespace jevrin
