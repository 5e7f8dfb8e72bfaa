// Products of many pairs of matrices: c [count, rows, columns] = a [count, rows, depth] * b [count, depth,
// columns].
#pragma once

#include "jevrin/tensor/products.hpp"

#include <cstdint>

namespace jevrin::inline v1 {

class MatrixProductKernel {
  public:
    MatrixProductKernel() = default;
    MatrixProductKernel(std::int64_t rows, std::int64_t depth, std::int64_t columns,
                        ProductForm form = ProductForm::fastest);

    void forward(std::int64_t count, const float* a, const float* b, float* c) const;
    // a_gradient (+)= c_gradient * b transposed.
    void left_gradient(std::int64_t count, const float* b, const float* c_gradient, bool accumulate,
                       float* a_gradient) const;
    // b_gradient (+)= a transposed * c_gradient.
    void right_gradient(std::int64_t count, const float* a, const float* c_gradient, bool accumulate,
                        float* b_gradient) const;

    // The largest lease of scratch that any of them takes.
    std::int64_t scratch_size() const { return depth_ * columns_; }

  private:
    std::int64_t rows_ = 0;
    std::int64_t depth_ = 0;
    std::int64_t columns_ = 0;
    SumOfProducts forward_;
    SumOfProducts left_[2];  // replacing, accumulating
    SumOfProducts right_[2];
};

}  // namespace jevrin::inline v1
