// The dense layer: output [batch, out] = input [batch, in] * weight [in, out] + bias [out].
#pragma once

#include "jevrin/tensor/products.hpp"

#include <cstdint>

namespace jevrin {

class DenseKernel {
  public:
    DenseKernel() = default;
    DenseKernel(std::int64_t in, std::int64_t out, ProductForm form = ProductForm::fastest);

    // The row of one item does not depend on the batch it is in. bias may be null.
    void forward(std::int64_t batch, const float* input, const float* weight, const float* bias,
                 float* output) const;
    // input_gradient (+)= output_gradient * weight transposed.
    void data_gradient(std::int64_t batch, const float* output_gradient, const float* weight, bool accumulate,
                       float* input_gradient) const;
    // Sums over the batch, in order; bias_gradient may be null.
    void weight_gradient(std::int64_t batch, const float* input, const float* output_gradient,
                         float* weight_gradient, float* bias_gradient) const;

  private:
    std::int64_t in_ = 0;
    std::int64_t out_ = 0;
    SumOfProducts forward_;
    SumOfProducts data_;
    SumOfProducts weight_;
};

}  // namespace jevrin
