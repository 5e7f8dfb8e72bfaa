// Turning rows into columns.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

// to[c * to_stride + r] = from[r * from_stride + c] for all r < rows and c < columns; strides are in
// elements.
void transpose(std::int64_t rows, std::int64_t columns, const float* from, std::int64_t from_stride,
               float* to, std::int64_t to_stride);

}  // namespace jevrin::inline v1
