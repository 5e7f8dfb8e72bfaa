// Pooling on channels-last images [batch, height, width, channels].
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

struct PoolingShape {
    std::int64_t height = 0;
    std::int64_t width = 0;
    std::int64_t channels = 0;
    std::int64_t kernel_height = 1;
    std::int64_t kernel_width = 1;
    std::int64_t stride_height = 1;
    std::int64_t stride_width = 1;
    std::int64_t pad_top = 0;
    std::int64_t pad_left = 0;
    std::int64_t pad_bottom = 0;
    std::int64_t pad_right = 0;
    bool count_padding = false;  // average pooling: padded pixels count as zeros in the mean
    // The last windows may reach beyond the padded image by less than a stride; what lies there never counts.
    bool round_up = false;
    std::int64_t dilation_height = 1;
    std::int64_t dilation_width = 1;

    std::int64_t out_height() const {
        return extent(height, pad_top, pad_bottom, dilation_height * (kernel_height - 1) + 1, stride_height);
    }
    std::int64_t out_width() const {
        return extent(width, pad_left, pad_right, dilation_width * (kernel_width - 1) + 1, stride_width);
    }

  private:
    std::int64_t extent(std::int64_t size, std::int64_t before, std::int64_t after, std::int64_t kernel,
                        std::int64_t stride) const {
        const std::int64_t reach = size + before + after - kernel;
        const std::int64_t whole = reach / stride + 1;
        // A window that begins in the padding behind the image would hold nothing.
        const bool another = round_up && reach % stride != 0 && whole * stride < size + before;
        return whole + (another ? 1 : 0);
    }
};

// Every window must hold at least one pixel of the image. winners [as the output] receives the index, within
// its image, of the first largest element; it may be null when no gradient is wanted.
void max_pool(const PoolingShape& shape, std::int64_t batch, const float* input, float* output,
              std::int32_t* winners);
void max_pool_backward(const PoolingShape& shape, std::int64_t batch, const float* output_gradient,
                       const std::int32_t* winners, bool accumulate, float* input_gradient);

// Means of windows: [batch, height, width, channels] to [batch, out_height, out_width, channels].
void average_pool(const PoolingShape& shape, std::int64_t batch, const float* input, float* output);
void average_pool_backward(const PoolingShape& shape, std::int64_t batch, const float* output_gradient,
                           bool accumulate, float* input_gradient);

// The mean over all pixels: [batch, pixels, channels] to [batch, channels].
void global_average_pool(std::int64_t pixels, std::int64_t channels, std::int64_t batch, const float* input,
                         float* output);
void global_average_pool_backward(std::int64_t pixels, std::int64_t channels, std::int64_t batch,
                                  const float* output_gradient, bool accumulate, float* input_gradient);

}  // namespace jevrin::inline v1
