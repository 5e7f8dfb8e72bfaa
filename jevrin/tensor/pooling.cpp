#include "jevrin/tensor/pooling.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/integer_division.hpp"

#include <algorithm>
#include <limits>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t channel_block = 64;
constexpr std::int64_t wanted_tasks = 8;

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

// Calls visit(image, output offset, window) for every output pixel of a row.
template <typename Visit>
void visit_row(const PoolingShape& s, std::int64_t n, std::int64_t y, Visit visit) {
    for (std::int64_t x = 0; x < s.out_width(); ++x)
        visit(n, ((n * s.out_height() + y) * s.out_width() + x) * s.channels, window_at(s, y, x));
}

// For values, each of which has a window of its own: rows of all images in parallel.
template <typename Visit>
void for_outputs(const PoolingShape& s, std::int64_t batch, Visit visit) {
    const std::int64_t bands = std::min(s.out_height(), divide_up(wanted_tasks, batch));
    parallel_for(batch * bands, [&](std::int64_t task) {
        const IndexRange rows = chunk_range(s.out_height(), bands, task % bands);
        for (std::int64_t y = rows.begin; y < rows.end; ++y) visit_row(s, task / bands, y, visit);
    });
}

// For gradients, which windows that overlap add to: images in parallel. Unless they accumulate, input rows
// are set to zero shortly before they are added to.
template <typename Visit>
void for_gradients(const PoolingShape& s, std::int64_t batch, bool accumulate, float* input_gradient,
                   Visit visit) {
    const std::int64_t row_size = s.width * s.channels;
    parallel_for(batch, [&](std::int64_t n) {
        float* image = input_gradient + n * s.height * row_size;
        std::int64_t ready = accumulate ? s.height : 0;  // rows
        for (std::int64_t y = 0; y < s.out_height(); ++y) {
            const bool last = y + 1 == s.out_height();
            const std::int64_t end = last ? s.height : std::min(s.height, window_at(s, y, 0).rows.end);
            for (; ready < end; ++ready) std::fill_n(image + ready * row_size, row_size, 0.0F);
            visit_row(s, n, y, visit);
        }
    });
}

// Calls visit(offset of the first channel) for every pixel of the image under the window, row by row.
template <typename Visit>
void for_pixels(const PoolingShape& s, const Window& window, Visit visit) {
    for (std::int64_t y = window.rows.begin; y < window.rows.end; y += window.rows.step)
        for (std::int64_t x = window.columns.begin; x < window.columns.end; x += window.columns.step)
            visit((y * s.width + x) * s.channels);
}

// The greatest value under a window and, unless null, where it is: the first of equal ones. Values that are
// not numbers count only where there is no other.
void find_greatest(const PoolingShape& s, const Window& window, const float* image, IndexRange channels,
                   float* output, std::int32_t* winners) {
    constexpr float least = -std::numeric_limits<float>::infinity();
    float best[channel_block];
    std::int32_t place[channel_block];
    const std::int64_t count = channels.end - channels.begin;
    const std::int64_t first =
        (window.rows.begin * s.width + window.columns.begin) * s.channels + channels.begin;
    for (std::int64_t c = 0; c < count; ++c) {
        best[c] = least;
        place[c] = static_cast<std::int32_t>(first + c);
    }
    for_pixels(s, window, [&](std::int64_t pixel) {
        const float* from = image + pixel + channels.begin;
        const auto begin = static_cast<std::int32_t>(pixel + channels.begin);
        for (std::int64_t c = 0; c < count; ++c) {
            const bool greater = from[c] > best[c];
            best[c] = greater ? from[c] : best[c];
            place[c] = greater ? begin + static_cast<std::int32_t>(c) : place[c];
        }
    });
    for (std::int64_t c = 0; c < count; ++c) {
        const float value = image[first + c];
        output[channels.begin + c] = best[c] > least ? best[c] : value;
    }
    if (winners != nullptr) std::copy_n(place, count, winners + channels.begin);
}

}  // namespace

void max_pool(const PoolingShape& s, std::int64_t batch, const float* input, float* output,
              std::int32_t* winners) {
    const std::int64_t image_size = s.height * s.width * s.channels;
    for_outputs(s, batch, [&](std::int64_t n, std::int64_t out, const Window& window) {
        for (std::int64_t c = 0; c < s.channels; c += channel_block)
            find_greatest(s, window, input + n * image_size, {c, std::min(c + channel_block, s.channels)},
                          output + out, winners == nullptr ? nullptr : winners + out);
    });
}

void max_pool_backward(const PoolingShape& s, std::int64_t batch, const float* output_gradient,
                       const std::int32_t* winners, bool accumulate, float* input_gradient) {
    const std::int64_t image_size = s.height * s.width * s.channels;
    for_gradients(s, batch, accumulate, input_gradient, [&](std::int64_t n, std::int64_t out, const Window&) {
        for (std::int64_t c = 0; c < s.channels; ++c)
            input_gradient[n * image_size + winners[out + c]] += output_gradient[out + c];
    });
}

void average_pool(const PoolingShape& s, std::int64_t batch, const float* input, float* output) {
    const std::int64_t image_size = s.height * s.width * s.channels;
    for_outputs(s, batch, [&](std::int64_t n, std::int64_t out, const Window& window) {
        std::fill_n(output + out, s.channels, 0.0F);
        for_pixels(s, window, [&](std::int64_t pixel) {
            const float* from = input + n * image_size + pixel;
            for (std::int64_t c = 0; c < s.channels; ++c) output[out + c] += from[c];
        });
        for (std::int64_t c = 0; c < s.channels; ++c) output[out + c] /= window.divisor;
    });
}

void average_pool_backward(const PoolingShape& s, std::int64_t batch, const float* output_gradient,
                           bool accumulate, float* input_gradient) {
    const std::int64_t image_size = s.height * s.width * s.channels;
    for_gradients(s, batch, accumulate, input_gradient,
                  [&](std::int64_t n, std::int64_t out, const Window& window) {
                      for_pixels(s, window, [&](std::int64_t pixel) {
                          float* to = input_gradient + n * image_size + pixel;
                          for (std::int64_t c = 0; c < s.channels; ++c)
                              to[c] += output_gradient[out + c] / window.divisor;
                      });
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
