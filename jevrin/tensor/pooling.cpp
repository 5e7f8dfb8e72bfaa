#include "jevrin/tensor/pooling.hpp"

#include "jevrin/base/parallel.hpp"

#include <algorithm>
#include <limits>

namespace jevrin::inline v1 {
namespace {

// The elements of one dimension of the image under a window: begin, begin + step, ... below end.
struct Taps {
    std::int64_t begin = 0;
    std::int64_t end = 0;
    std::int64_t step = 1;
    std::int64_t count = 0;    // of them
    std::int64_t counted = 0;  // with those in the padding
};

Taps taps_of(std::int64_t first, std::int64_t kernel, std::int64_t step, std::int64_t size,
             std::int64_t padding) {
    const auto below = [&](std::int64_t end) {
        return std::clamp<std::int64_t>((end - first + step - 1) / step, 0, kernel);
    };
    const std::int64_t before = first < 0 ? std::min((-first + step - 1) / step, kernel) : 0;
    Taps taps{.begin = first + before * step, .end = first + below(size) * step, .step = step};
    taps.count = std::max<std::int64_t>(0, below(size) - before);
    taps.counted = below(size + padding);
    return taps;
}

struct Window {
    Taps rows;
    Taps columns;
    float divisor = 1.0F;
};

// The pixels of the image under the window of one output pixel.
Window window_at(const PoolingShape& s, std::int64_t y, std::int64_t x) {
    Window window{
        taps_of(y * s.stride_height - s.pad_top, s.kernel_height, s.dilation_height, s.height, s.pad_bottom),
        taps_of(x * s.stride_width - s.pad_left, s.kernel_width, s.dilation_width, s.width, s.pad_right)};
    window.divisor = static_cast<float>(s.count_padding ? window.rows.counted * window.columns.counted
                                                        : window.rows.count * window.columns.count);
    return window;
}

// Calls visit(image, output offset, window) for every output pixel, images in parallel.
template <typename Begin, typename Visit>
void for_windows(const PoolingShape& s, std::int64_t batch, Begin begin_image, Visit visit) {
    parallel_for(batch, [&](std::int64_t n) {
        begin_image(n);
        for (std::int64_t y = 0; y < s.out_height(); ++y)
            for (std::int64_t x = 0; x < s.out_width(); ++x)
                visit(n, ((n * s.out_height() + y) * s.out_width() + x) * s.channels, window_at(s, y, x));
    });
}

}  // namespace

void max_pool(const PoolingShape& s, std::int64_t batch, const float* input, float* output,
              std::int32_t* winners) {
    const std::int64_t image_size = s.height * s.width * s.channels;
    for_windows(
        s, batch, [](std::int64_t) {},
        [&](std::int64_t n, std::int64_t out, const Window& window) {
            for (std::int64_t c = 0; c < s.channels; ++c) {
                float best = -std::numeric_limits<float>::infinity();
                std::int64_t winner = (window.rows.begin * s.width + window.columns.begin) * s.channels + c;
                for (std::int64_t y = window.rows.begin; y < window.rows.end; y += window.rows.step)
                    for (std::int64_t x = window.columns.begin; x < window.columns.end;
                         x += window.columns.step) {
                        const std::int64_t i = (y * s.width + x) * s.channels + c;
                        const float value = input[n * image_size + i];
                        if (value > best) {
                            best = value;
                            winner = i;
                        }
                    }
                output[out + c] = input[n * image_size + winner];
                if (winners != nullptr) winners[out + c] = static_cast<std::int32_t>(winner);
            }
        });
}

void max_pool_backward(const PoolingShape& s, std::int64_t batch, const float* output_gradient,
                       const std::int32_t* winners, bool accumulate, float* input_gradient) {
    const std::int64_t image_size = s.height * s.width * s.channels;
    for_windows(
        s, batch,
        [&](std::int64_t n) {
            if (!accumulate) std::fill_n(input_gradient + n * image_size, image_size, 0.0F);
        },
        [&](std::int64_t n, std::int64_t out, const Window&) {
            for (std::int64_t c = 0; c < s.channels; ++c)
                input_gradient[n * image_size + winners[out + c]] += output_gradient[out + c];
        });
}

void average_pool(const PoolingShape& s, std::int64_t batch, const float* input, float* output) {
    const std::int64_t image_size = s.height * s.width * s.channels;
    for_windows(
        s, batch, [](std::int64_t) {},
        [&](std::int64_t n, std::int64_t out, const Window& window) {
            std::fill_n(output + out, s.channels, 0.0F);
            for (std::int64_t y = window.rows.begin; y < window.rows.end; y += window.rows.step)
                for (std::int64_t x = window.columns.begin; x < window.columns.end;
                     x += window.columns.step) {
                    const float* pixel = input + n * image_size + (y * s.width + x) * s.channels;
                    for (std::int64_t c = 0; c < s.channels; ++c) output[out + c] += pixel[c];
                }
            for (std::int64_t c = 0; c < s.channels; ++c) output[out + c] /= window.divisor;
        });
}

void average_pool_backward(const PoolingShape& s, std::int64_t batch, const float* output_gradient,
                           bool accumulate, float* input_gradient) {
    const std::int64_t image_size = s.height * s.width * s.channels;
    for_windows(
        s, batch,
        [&](std::int64_t n) {
            if (!accumulate) std::fill_n(input_gradient + n * image_size, image_size, 0.0F);
        },
        [&](std::int64_t n, std::int64_t out, const Window& window) {
            for (std::int64_t y = window.rows.begin; y < window.rows.end; y += window.rows.step)
                for (std::int64_t x = window.columns.begin; x < window.columns.end;
                     x += window.columns.step) {
                    float* pixel = input_gradient + n * image_size + (y * s.width + x) * s.channels;
                    for (std::int64_t c = 0; c < s.channels; ++c)
                        pixel[c] += output_gradient[out + c] / window.divisor;
                }
        });
}

void global_average_pool(std::int64_t pixels, std::int64_t channels, std::int64_t batch, const float* input,
                         float* output) {
    const float share = 1.0F / static_cast<float>(pixels);
    parallel_for(batch, [&](std::int64_t n) {
        float* out = output + n * channels;
        std::fill_n(out, channels, 0.0F);
        for (std::int64_t p = 0; p < pixels; ++p)
            for (std::int64_t c = 0; c < channels; ++c) out[c] += input[(n * pixels + p) * channels + c];
        for (std::int64_t c = 0; c < channels; ++c) out[c] *= share;
    });
}

void global_average_pool_backward(std::int64_t pixels, std::int64_t channels, std::int64_t batch,
                                  const float* output_gradient, bool accumulate, float* input_gradient) {
    const float share = 1.0F / static_cast<float>(pixels);
    parallel_for(batch, [&](std::int64_t n) {
        for (std::int64_t p = 0; p < pixels; ++p)
            for (std::int64_t c = 0; c < channels; ++c) {
                float& target = input_gradient[(n * pixels + p) * channels + c];
                const float value = output_gradient[n * channels + c] * share;
                target = accumulate ? target + value : value;
            }
    });
}

}  // namespace jevrin::inline v1
