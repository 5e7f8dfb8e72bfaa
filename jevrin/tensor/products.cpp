#include "jevrin/tensor/products.hpp"

#include <Eigen/Core>

#include <algorithm>
#include <cassert>
#include <limits>

#ifdef JEVRIN_LIBXSMM
#include <libxsmm.h>
#endif

namespace jevrin::inline v1 {
namespace {

#ifdef JEVRIN_LIBXSMM
using Kernel = libxsmm_smmfunction_reducebatch_offs;

// LIBXSMM is column-major: it is asked for the transposed product, which has the same memory layout.
Kernel find_kernel(const ProductShape& s) {
    constexpr std::int64_t largest = std::numeric_limits<libxsmm_blasint>::max();
    if (s.rows > largest || s.a_stride > largest || s.b_stride > largest || s.c_stride > largest)
        return nullptr;
    const auto m = static_cast<libxsmm_blasint>(s.columns);
    const auto n = static_cast<libxsmm_blasint>(s.rows);
    const auto k = static_cast<libxsmm_blasint>(s.depth);
    const auto lda = static_cast<libxsmm_blasint>(s.b_stride);
    const auto ldb = static_cast<libxsmm_blasint>(s.a_stride);
    const auto ldc = static_cast<libxsmm_blasint>(s.c_stride);
    const float alpha = 1.0F;
    const float beta = s.accumulate ? 1.0F : 0.0F;
    const int flags = s.a_transposed ? LIBXSMM_GEMM_FLAG_TRANS_B : LIBXSMM_GEMM_FLAG_NONE;
    return libxsmm_smmdispatch_reducebatch_offs(m, n, k, &lda, &ldb, &ldc, &alpha, &beta, &flags, nullptr);
}
#endif

using Matrix = Eigen::Matrix<float, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
using Stride = Eigen::OuterStride<>;
using ConstMap = Eigen::Map<const Matrix, 0, Stride>;

void multiply_portably(const ProductShape& s, const float* a, const float* b, float* c,
                       std::span<const std::uint64_t> a_offsets, std::span<const std::uint64_t> b_offsets) {
    Eigen::Map<Matrix, 0, Stride> result(c, s.rows, s.columns, Stride(s.c_stride));
    if (!s.accumulate) result.setZero();
    for (std::size_t i = 0; i < a_offsets.size(); ++i) {
        const ConstMap right(b + b_offsets[i], s.depth, s.columns, Stride(s.b_stride));
        if (s.a_transposed) {
            const ConstMap left(a + a_offsets[i], s.depth, s.rows, Stride(s.a_stride));
            result.noalias() += left.transpose().lazyProduct(right);
        } else {
            const ConstMap left(a + a_offsets[i], s.rows, s.depth, Stride(s.a_stride));
            result.noalias() += left.lazyProduct(right);
        }
    }
}

}  // namespace

SumOfProducts::SumOfProducts(const ProductShape& shape, ProductForm form) : shape_(shape) {
    assert(shape.rows > 0 && shape.columns > 0 && shape.depth > 0);
#ifdef JEVRIN_LIBXSMM
    if (form == ProductForm::portable) return;
    ProductShape adding = shape;
    adding.accumulate = true;
    kernel_ = reinterpret_cast<void (*)()>(find_kernel(shape));
    adding_kernel_ = reinterpret_cast<void (*)()>(find_kernel(adding));
#else
    static_cast<void>(form);
#endif
}

void SumOfProducts::operator()(const float* a, const float* b, float* c,
                               std::span<const std::uint64_t> a_offsets,
                               std::span<const std::uint64_t> b_offsets) const {
    assert(a_offsets.size() == b_offsets.size() && !a_offsets.empty());
#ifdef JEVRIN_LIBXSMM
    if (is_fast()) {
        // The offset form, in bytes: the address form would advance the caller's arrays in place.
        constexpr std::size_t block = 256;
        unsigned long long a_bytes[block];
        unsigned long long b_bytes[block];
        for (std::size_t begin = 0; begin < a_offsets.size(); begin += block) {
            const unsigned long long count = std::min(block, a_offsets.size() - begin);
            for (std::size_t i = 0; i < count; ++i) {
                a_bytes[i] = a_offsets[begin + i] * sizeof(float);
                b_bytes[i] = b_offsets[begin + i] * sizeof(float);
            }
            const auto kernel = reinterpret_cast<Kernel>(begin == 0 ? kernel_ : adding_kernel_);
            kernel(b, a, c, &count, b_bytes, a_bytes);
        }
        return;
    }
#endif
    multiply_portably(shape_, a, b, c, a_offsets, b_offsets);
}

}  // namespace jevrin::inline v1
