// The dense layer: output [rows, out] = input [rows, in] * weight [in, out] + bias [out].
#pragma once

#include "jevrin/tensor/row_gradient.hpp"
#include "jevrin/tensor/tap_sum.hpp"

#include <cstdint>

namespace jevrin::inline v1 {

// output [rows, out] (+)= input [rows, in] * a matrix in packed form, then bias (may be null) is added and
// the activation applied.
class RowProducts {
  public:
    RowProducts() = default;
    RowProducts(std::int64_t in, std::int64_t out, ProductForm form);

    const TapSum& layout() const { return large_; }  // of the packed form
    void operator()(std::int64_t rows, const float* input, const float* packed, const float* bias,
                    const Function& activation, bool accumulate, float* output) const;
    std::int64_t scratch_size() const;

  private:
    TapSum large_;  // for most rows
    std::int64_t small_rows_ = 0;
    TapSum small_;  // for the rest
};

class DenseKernel {
  public:
    DenseKernel() = default;
    DenseKernel(std::int64_t in, std::int64_t out, ProductForm form = ProductForm::fastest);

    // A row does not depend on the rows computed with it. bias may be null.
    void forward(std::int64_t rows, const float* input, const float* weight, const float* bias,
                 const Function& activation, float* output, WeightForm form = WeightForm::plain) const;
    // As those of a convolution.
    std::int64_t laid_out_size() const;
    void lay_out(const float* weight, float* laid_out) const;
    // input_gradient (+)= output_gradient * weight transposed.
    void data_gradient(std::int64_t rows, const float* output_gradient, const float* weight, bool accumulate,
                       float* input_gradient) const;
    // weight_gradient is replaced by the sum over the rows.
    void weight_gradient(std::int64_t rows, const float* input, const float* output_gradient,
                         float* weight_gradient) const;

    // The largest lease of scratch that any of them takes.
    std::int64_t scratch_size() const;

  private:
    std::int64_t in_ = 0;
    std::int64_t out_ = 0;
    RowProducts forward_;
    RowProducts data_;
    RowGradient weight_;
};

}  // namespace jevrin::inline v1
