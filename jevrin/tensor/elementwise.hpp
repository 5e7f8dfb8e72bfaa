// Element-by-element operators over [batch, item_size].
#pragma once

#include "jevrin/base/random.hpp"

#include <cstdint>

namespace jevrin {

// output = max(input, 0); output may be the input.
void relu(std::int64_t batch, std::int64_t item_size, const float* input, float* output);
// input_gradient (+)= output_gradient where the output was positive.
void relu_backward(std::int64_t batch, std::int64_t item_size, const float* output,
                   const float* output_gradient, bool accumulate, float* input_gradient);

// output = a + b.
void add(std::int64_t batch, std::int64_t item_size, const float* a, const float* b, float* output);

// target (+)= source.
void pass_gradient(std::int64_t batch, std::int64_t item_size, const float* source, bool accumulate,
                   float* target);

// [batch, pixels, channels] to [batch, channels, pixels], the order in which model files flatten an image.
void to_channels_first(std::int64_t pixels, std::int64_t channels, std::int64_t batch, const float* input,
                       float* output);
void to_channels_last(std::int64_t pixels, std::int64_t channels, std::int64_t batch, const float* input,
                      bool accumulate, float* output);

// Dropout (Srivastava 2014, inverted form): each element is kept with probability 1 - rate and divided by it.
// The mask of an item is drawn from (seed, dropout, epoch, items[n] with layer), and is stored for backward.
struct DropoutDraw {
    double rate = 0.0;
    std::uint64_t seed = 0;
    std::uint32_t epoch = 0;
    std::uint32_t layer = 0;
    const std::int64_t* items = nullptr;  // [batch], the stable numbers of the items
};
void dropout(const DropoutDraw& draw, std::int64_t batch, std::int64_t item_size, const float* input,
             float* output, float* mask);
// input_gradient (+)= output_gradient * mask.
void dropout_backward(std::int64_t batch, std::int64_t item_size, const float* mask,
                      const float* output_gradient, bool accumulate, float* input_gradient);

}  // namespace jevrin
