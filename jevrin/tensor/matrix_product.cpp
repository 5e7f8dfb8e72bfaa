#include "jevrin/tensor/matrix_product.hpp"

#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/scratch.hpp"
#include "jevrin/tensor/transposition.hpp"

#include <array>

namespace jevrin::inline v1 {
namespace {

constexpr std::array<std::uint64_t, 1> no_offset = {0};

}  // namespace

MatrixProductKernel::MatrixProductKernel(std::int64_t rows, std::int64_t depth, std::int64_t columns,
                                         ProductForm form)
    : rows_(rows),
      depth_(depth),
      columns_(columns),
      forward_({.rows = rows,
                .columns = columns,
                .depth = depth,
                .a_stride = depth,
                .b_stride = columns,
                .c_stride = columns},
               form) {
    for (const bool accumulate : {false, true}) {
        left_[accumulate] = SumOfProducts({.rows = rows,
                                           .columns = depth,
                                           .depth = columns,
                                           .a_stride = columns,
                                           .b_stride = depth,
                                           .c_stride = depth,
                                           .accumulate = accumulate},
                                          form);
        right_[accumulate] = SumOfProducts({.rows = depth,
                                            .columns = columns,
                                            .depth = rows,
                                            .a_stride = depth,
                                            .b_stride = columns,
                                            .c_stride = columns,
                                            .a_transposed = true,
                                            .accumulate = accumulate},
                                           form);
    }
}

void MatrixProductKernel::forward(std::int64_t count, const float* a, const float* b, float* c) const {
    for_rows(count, rows_ * columns_, [&](std::int64_t i) {
        forward_(a + i * rows_ * depth_, b + i * depth_ * columns_, c + i * rows_ * columns_, no_offset,
                 no_offset);
    });
}

void MatrixProductKernel::left_gradient(std::int64_t count, const float* b, const float* c_gradient,
                                        bool accumulate, float* a_gradient) const {
    for_rows(count, rows_ * columns_, [&](std::int64_t i) {
        const Scratch turned(depth_ * columns_);
        transpose(depth_, columns_, b + i * depth_ * columns_, columns_, turned.data(), depth_);
        left_[accumulate](c_gradient + i * rows_ * columns_, turned.data(), a_gradient + i * rows_ * depth_,
                          no_offset, no_offset);
    });
}

void MatrixProductKernel::right_gradient(std::int64_t count, const float* a, const float* c_gradient,
                                         bool accumulate, float* b_gradient) const {
    for_rows(count, rows_ * columns_, [&](std::int64_t i) {
        right_[accumulate](a + i * rows_ * depth_, c_gradient + i * rows_ * columns_,
                           b_gradient + i * depth_ * columns_, no_offset, no_offset);
    });
}

}  // namespace jevrin::inline v1
