// Two-dimensional convolution (cross-correlation, as usual in the field) on channels-last images.
//
//     input  [batch, height, width, in_channels]
//     weight [kernel_height, kernel_width, in_channels, out_channels]
//     output [batch, out_height, out_width, out_channels]
//
// Every function is a sum of small matrix products on a padded copy of one image; nothing is unfolded. The
// result for one image does not depend on the batch it is in.
#pragma once

#include "jevrin/tensor/products.hpp"

#include <cstdint>
#include <vector>

namespace jevrin {

struct ConvolutionShape {
    std::int64_t height = 0;
    std::int64_t width = 0;
    std::int64_t in_channels = 0;
    std::int64_t out_channels = 0;
    std::int64_t kernel_height = 1;
    std::int64_t kernel_width = 1;
    std::int64_t stride_height = 1;
    std::int64_t stride_width = 1;
    std::int64_t pad_top = 0;
    std::int64_t pad_left = 0;
    std::int64_t pad_bottom = 0;
    std::int64_t pad_right = 0;

    std::int64_t out_height() const {
        return (height + pad_top + pad_bottom - kernel_height) / stride_height + 1;
    }
    std::int64_t out_width() const {
        return (width + pad_left + pad_right - kernel_width) / stride_width + 1;
    }
    std::int64_t weight_count() const { return kernel_height * kernel_width * in_channels * out_channels; }
    // Multiplications of one image, forward.
    std::int64_t multiplications() const { return out_height() * out_width() * weight_count(); }
};

enum class Activation { none, relu };

class ConvolutionKernel {
  public:
    ConvolutionKernel() = default;
    // The output must be at least one pixel.
    explicit ConvolutionKernel(const ConvolutionShape& shape, ProductForm form = ProductForm::fastest);

    const ConvolutionShape& shape() const { return shape_; }

    // output = activation(input * weight + bias); bias [out_channels] may be null.
    void forward(std::int64_t batch, const float* input, const float* weight, const float* bias,
                 Activation activation, float* output) const;

    // input_gradient (+)= the gradient with respect to the input.
    void data_gradient(std::int64_t batch, const float* output_gradient, const float* weight, bool accumulate,
                       float* input_gradient) const;

    // weight_gradient and bias_gradient (may be null) are replaced by the sums over the batch.
    void weight_gradient(std::int64_t batch, const float* input, const float* output_gradient,
                         float* weight_gradient, float* bias_gradient) const;

  private:
    // The taps that reach one column phase of the input gradient, with the kernels for its rows.
    struct ColumnPhase {
        std::int64_t first_column = 0;
        std::int64_t columns = 0;
        std::vector<std::int64_t> taps;  // kernel columns
        SumOfProducts replace;
        SumOfProducts accumulate;
    };

    const float* padded_input(const float* image) const;
    void image_data_gradient(const float* output_gradient, const float* transposed_weight, bool accumulate,
                             float* input_gradient) const;

    ConvolutionShape shape_;
    std::int64_t padded_width_ = 0;
    std::int64_t padded_height_ = 0;
    bool needs_padding_ = false;
    SumOfProducts forward_;
    std::vector<std::uint64_t> forward_inputs_;   // offset of each tap in the padded image
    std::vector<std::uint64_t> forward_weights_;  // offset of each tap in the weight
    SumOfProducts weight_replace_;
    SumOfProducts weight_accumulate_;
    std::vector<ColumnPhase> phases_;
    std::int64_t gradient_margin_top_ = 0;  // zero rows and columns around the output gradient
    std::int64_t gradient_margin_left_ = 0;
    std::int64_t gradient_height_ = 0;
    std::int64_t gradient_width_ = 0;
};

}  // namespace jevrin
