// Two-dimensional convolution (cross-correlation, as usual in the field) on channels-last images.
//
//     input  [batch, height, width, in_channels]
//     weight [kernel_height, kernel_width, in_channels / groups, out_channels]
//     output [batch, out_height, out_width, out_channels]
//
// Output channel o belongs to group o / (out_channels / groups) and sees the input channels of that group
// only. Every function is a sum of small matrix products (TapSum, TapGradient, WeightGradient, RowGradient),
// of transformed tiles where that takes fewer multiplications (WinogradSum, WinogradWeightGradient);
// depthwise convolutions, where each group is one input and one output channel, have loops of their own. The
// result for one image does not depend on the batch it is in.
#pragma once

#include "jevrin/tensor/convolution_shape.hpp"
#include "jevrin/tensor/depthwise.hpp"
#include "jevrin/tensor/products.hpp"
#include "jevrin/tensor/row_gradient.hpp"
#include "jevrin/tensor/tap_gradient.hpp"
#include "jevrin/tensor/tap_sum.hpp"
#include "jevrin/tensor/weight_gradient.hpp"
#include "jevrin/tensor/winograd.hpp"

#include <cstdint>
#include <optional>
#include <variant>
#include <vector>

namespace jevrin::inline v1 {

class ConvolutionKernel {
  public:
    ConvolutionKernel() = default;
    // The output must be at least one pixel.
    // winograd: in transformed tiles where they serve.
    explicit ConvolutionKernel(const ConvolutionShape& shape, ProductForm form = ProductForm::fastest,
                               bool winograd = true);

    const ConvolutionShape& shape() const { return shape_; }
    bool uses_winograd() const { return winograd_.has_value(); }

    // output = activation(input * weight + bias); bias [out_channels] may be null. The bits do not depend on
    // the form of the weight. statistics are those of the output, taken while it is written; may be null.
    void forward(std::int64_t batch, const float* input, const float* weight, const float* bias,
                 const Function& activation, float* output, WeightForm form = WeightForm::plain,
                 BatchStatistics* statistics = nullptr) const;
    // Floats of the weight as forward reads it; 0 where that is the plain form, or where the other would take
    // too much memory.
    std::int64_t laid_out_size() const;
    void lay_out(const float* weight, float* laid_out) const;

    // input_gradient (+)= the gradient with respect to the input.
    void data_gradient(std::int64_t batch, const float* output_gradient, const float* weight, bool accumulate,
                       float* input_gradient) const;

    // weight_gradient is replaced by the sum over the batch.
    void weight_gradient(std::int64_t batch, const float* input, const float* output_gradient,
                         float* weight_gradient) const;

    // The largest lease of scratch that any of them takes.
    std::int64_t scratch_size() const;

  private:
    // The input pixels of one remainder of the strides, all reached by the same taps.
    struct Phase {
        TapSum sum;
        std::int64_t first_pixel = 0;    // offset of its first input pixel, elements
        std::vector<std::int64_t> taps;  // kernel positions, in the order of the sum
    };

    void add_phase(std::int64_t row, std::int64_t column, ProductForm form);
    void choose_weight_gradient(ProductForm form);

    ConvolutionShape shape_;
    DepthwiseKernel depthwise_;
    TapSum forward_;
    std::vector<Phase> phases_;
    bool leaves_pixels_ = false;  // of the input, which no tap reaches
    struct Winograd {             // instead of those, where they serve
        WinogradSum forward;
        WinogradSum data;
    };
    std::optional<Winograd> winograd_;
    std::variant<TapGradient, WeightGradient, RowGradient, WinogradWeightGradient> weights_;
};

}  // namespace jevrin::inline v1
