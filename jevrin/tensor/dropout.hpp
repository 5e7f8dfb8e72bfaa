// Dropout (Srivastava 2014, inverted form): each element is kept with probability 1 - rate and divided by it.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

// The mask of an item is drawn from (seed, dropout, epoch, items[n] with layer).
struct DropoutDraw {
    double rate = 0.0;
    std::uint64_t seed = 0;
    std::uint32_t epoch = 0;
    std::uint32_t layer = 0;
    const std::int64_t* items = nullptr;  // [batch], the stable numbers of the items
};

// kept [batch, item_size] receives 1 for each element kept; output may be the input.
void dropout(const DropoutDraw& draw, std::int64_t batch, std::int64_t item_size, const float* input,
             float* output, std::uint8_t* kept);
// input_gradient (+)= output_gradient where kept, divided by 1 - rate; it may be output_gradient.
void dropout_backward(double rate, std::int64_t count, const std::uint8_t* kept, const float* output_gradient,
                      bool accumulate, float* input_gradient);

}  // namespace jevrin::inline v1
