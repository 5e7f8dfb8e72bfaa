#include "jevrin/tensor/elementwise.hpp"

#include "jevrin/base/parallel.hpp"

#include <algorithm>

namespace jevrin {
namespace {

// target[i] (+)= value(i) for all elements, images in parallel.
template <typename Value>
void assign(std::int64_t batch, std::int64_t item_size, bool accumulate, float* target, Value value) {
    parallel_for(batch, [&](std::int64_t n) {
        const std::int64_t begin = n * item_size;
        const std::int64_t end = begin + item_size;
        if (accumulate)
            for (std::int64_t i = begin; i < end; ++i) target[i] += value(i);
        else
            for (std::int64_t i = begin; i < end; ++i) target[i] = value(i);
    });
}

}  // namespace

void relu(std::int64_t batch, std::int64_t item_size, const float* input, float* output) {
    assign(batch, item_size, false, output, [=](std::int64_t i) { return std::max(input[i], 0.0F); });
}

void relu_backward(std::int64_t batch, std::int64_t item_size, const float* output,
                   const float* output_gradient, bool accumulate, float* input_gradient) {
    assign(batch, item_size, accumulate, input_gradient, [=](std::int64_t i) {
        const float gradient = output_gradient[i];  // loaded in any case, so that the choice needs no branch
        return output[i] > 0.0F ? gradient : 0.0F;
    });
}

void add(std::int64_t batch, std::int64_t item_size, const float* a, const float* b, float* output) {
    assign(batch, item_size, false, output, [=](std::int64_t i) { return a[i] + b[i]; });
}

void pass_gradient(std::int64_t batch, std::int64_t item_size, const float* source, bool accumulate,
                   float* target) {
    assign(batch, item_size, accumulate, target, [=](std::int64_t i) { return source[i]; });
}

void to_channels_first(std::int64_t pixels, std::int64_t channels, std::int64_t batch, const float* input,
                       float* output) {
    parallel_for(batch, [&](std::int64_t n) {
        const std::int64_t begin = n * pixels * channels;
        for (std::int64_t c = 0; c < channels; ++c)
            for (std::int64_t p = 0; p < pixels; ++p)
                output[begin + c * pixels + p] = input[begin + p * channels + c];
    });
}

void to_channels_last(std::int64_t pixels, std::int64_t channels, std::int64_t batch, const float* input,
                      bool accumulate, float* output) {
    parallel_for(batch, [&](std::int64_t n) {
        const std::int64_t begin = n * pixels * channels;
        for (std::int64_t c = 0; c < channels; ++c)
            for (std::int64_t p = 0; p < pixels; ++p) {
                float& target = output[begin + p * channels + c];
                const float value = input[begin + c * pixels + p];
                target = accumulate ? target + value : value;
            }
    });
}

void dropout(const DropoutDraw& draw, std::int64_t batch, std::int64_t item_size, const float* input,
             float* output, float* mask) {
    const auto kept = static_cast<float>(1.0 / (1.0 - draw.rate));
    parallel_for(batch, [&](std::int64_t n) {
        RandomStream stream({draw.seed, Purpose::dropout, draw.epoch,
                             static_cast<std::uint64_t>(draw.items[n]) | (std::uint64_t{draw.layer} << 40)});
        for (std::int64_t i = n * item_size; i < (n + 1) * item_size; ++i) {
            mask[i] = stream.uniform() < draw.rate ? 0.0F : kept;
            output[i] = input[i] * mask[i];
        }
    });
}

void dropout_backward(std::int64_t batch, std::int64_t item_size, const float* mask,
                      const float* output_gradient, bool accumulate, float* input_gradient) {
    assign(batch, item_size, accumulate, input_gradient,
           [=](std::int64_t i) { return output_gradient[i] * mask[i]; });
}

}  // namespace jevrin
