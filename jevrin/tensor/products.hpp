// The seam under every heavy operator: a sum of small matrix products,
//
//     C [rows, columns]  (+)=  sum over b of  A_b [rows, depth] * B_b [depth, columns]
//
// where A_b and B_b begin at element offsets from two base addresses. A 3x3 convolution of one output row is
// one such sum over its nine taps. All matrices are row-major. The kernels are serial; loops outside run them
// in parallel.
//
// Two forms exist and agree within rounding: LIBXSMM (x86-64) and Eigen (everywhere, and the oracle of the
// tests). For one form, each number is summed over b, then depth, in order, so it does not depend on which
// other rows are computed with it as long as the shape is the same.
#pragma once

#include <cstdint>
#include <span>

namespace jevrin::inline v1 {

struct ProductShape {
    std::int64_t rows = 0;
    std::int64_t columns = 0;
    std::int64_t depth = 0;
    std::int64_t a_stride = 0;  // elements between the rows of A as stored
    std::int64_t b_stride = 0;
    std::int64_t c_stride = 0;
    bool a_transposed = false;  // A is stored [depth, rows]
    bool accumulate = false;    // add to C instead of replacing it
};

enum class ProductForm { fastest, portable };

// How many of so many columns one product should have: up to 64 stay together, since the kernels keep as many
// in registers; more are cut into blocks of 32, whose second matrix stays in a cache.
constexpr std::int64_t block_columns(std::int64_t columns) {
    return columns <= 64 ? columns : 32;
}

class SumOfProducts {
  public:
    SumOfProducts() = default;
    // rows, columns and depth must be positive.
    explicit SumOfProducts(const ProductShape& shape, ProductForm form = ProductForm::fastest);

    // Offsets are in elements; both spans have the same, positive length.
    void operator()(const float* a, const float* b, float* c, std::span<const std::uint64_t> a_offsets,
                    std::span<const std::uint64_t> b_offsets) const;

    // True when the fast form serves this shape.
    bool is_fast() const { return kernel_ != nullptr && adding_kernel_ != nullptr; }

  private:
    ProductShape shape_;
    void (*kernel_)() = nullptr;
    void (*adding_kernel_)() = nullptr;  // the same shape, adding to C: for sums longer than one call takes
};

}  // namespace jevrin::inline v1
