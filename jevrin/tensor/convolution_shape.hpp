// The shape of a two-dimensional convolution.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

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
    std::int64_t dilation_height = 1;
    std::int64_t dilation_width = 1;
    std::int64_t groups = 1;  // divides both channel counts

    std::int64_t out_height() const {
        return (height + pad_top + pad_bottom - dilation_height * (kernel_height - 1) - 1) / stride_height +
               1;
    }
    std::int64_t out_width() const {
        return (width + pad_left + pad_right - dilation_width * (kernel_width - 1) - 1) / stride_width + 1;
    }
    // Each channel by itself.
    bool is_depthwise() const { return groups > 1 && in_channels == groups && out_channels == groups; }
    // Each output pixel is a product of one input pixel.
    bool is_pointwise() const {
        return kernel_height == 1 && kernel_width == 1 && stride_height == 1 && stride_width == 1 &&
               groups == 1 && pad_top == 0 && pad_left == 0 && pad_bottom == 0 && pad_right == 0;
    }
    std::int64_t weight_count() const {
        return kernel_height * kernel_width * (in_channels / groups) * out_channels;
    }
    // Multiplications of one image, forward.
    std::int64_t multiplications() const { return out_height() * out_width() * weight_count(); }
};

}  // namespace jevrin::inline v1
