#include "jevrin/tensor/transposition.hpp"

#include <algorithm>
#include <cstring>
#include <utility>

namespace jevrin::inline v1 {
namespace {

constexpr int lanes = 16;
typedef float Vector __attribute__((vector_size(lanes * sizeof(float))));

// Exchanges the elements of two rows that differ in one bit of their column: one of four stages of a 16x16
// transposition.
template <int bit, std::size_t... lane>
void exchange(Vector& a, Vector& b, std::index_sequence<lane...>) {
    // Lanes of a, then those of b.
    const Vector first =
        __builtin_shufflevector(a, b,
                                ((static_cast<int>(lane) & bit) != 0 ? lanes + static_cast<int>(lane) - bit
                                                                     : static_cast<int>(lane))...);
    b = __builtin_shufflevector(a, b,
                                ((static_cast<int>(lane) & bit) != 0 ? lanes + static_cast<int>(lane)
                                                                     : static_cast<int>(lane) + bit)...);
    a = first;
}

template <int bit>
void exchange_rows(Vector* rows) {
    for (int r = 0; r < lanes; ++r)
        if ((r & bit) == 0) exchange<bit>(rows[r], rows[r + bit], std::make_index_sequence<lanes>());
}

void transpose_block(const float* from, std::int64_t from_stride, float* to, std::int64_t to_stride) {
    Vector rows[lanes];
    for (int r = 0; r < lanes; ++r) std::memcpy(&rows[r], from + r * from_stride, sizeof(Vector));
    exchange_rows<8>(rows);
    exchange_rows<4>(rows);
    exchange_rows<2>(rows);
    exchange_rows<1>(rows);
    for (int r = 0; r < lanes; ++r) std::memcpy(to + r * to_stride, &rows[r], sizeof(Vector));
}

}  // namespace

void transpose(std::int64_t rows, std::int64_t columns, const float* from, std::int64_t from_stride,
               float* to, std::int64_t to_stride) {
    const std::int64_t whole_rows = rows / lanes * lanes;
    const std::int64_t whole_columns = columns / lanes * lanes;
    for (std::int64_t r = 0; r < whole_rows; r += lanes)
        for (std::int64_t c = 0; c < whole_columns; c += lanes)
            transpose_block(from + r * from_stride + c, from_stride, to + c * to_stride + r, to_stride);
    const auto element = [&](std::int64_t r, std::int64_t c) {
        to[c * to_stride + r] = from[r * from_stride + c];
    };
    for (std::int64_t c = 0; c < columns; ++c)
        for (std::int64_t r = c < whole_columns ? whole_rows : 0; r < rows; ++r) element(r, c);
}

}  // namespace jevrin::inline v1
