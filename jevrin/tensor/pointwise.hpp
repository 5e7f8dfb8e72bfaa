// Functions of one number, applied to every element.
#pragma once

#include "jevrin/tensor/kinds.hpp"

#include <cstdint>
#include <string>

namespace jevrin::inline v1 {

// Whether the slope is computed from the input; otherwise it is computed from the output.
bool slope_needs_input(const Function& function);

// output = function(input); output may be the input.
void apply(const Function& function, std::int64_t count, const float* input, float* output);

// values = function(values + bias) in place, on the calling thread, for rows of width elements that lie
// stride apart; bias [width] may be null.
void apply_to_rows(const Function& function, const float* bias, std::int64_t rows, std::int64_t width,
                   std::int64_t stride, float* values);

// input_gradient (+)= output_gradient * slope, where known is the input or the output as slope_needs_input()
// says. input_gradient may be output_gradient.
void apply_backward(const Function& function, std::int64_t count, const float* known,
                    const float* output_gradient, bool accumulate, float* input_gradient);

// Parametric ReLU (He 2015): x, or slope * x below zero, with one slope per element of a period (1, or the
// channels).
void parametric_relu(std::int64_t count, std::int64_t period, const float* input, const float* slope,
                     float* output);
// slope_gradient [period] is replaced; input_gradient may be null.
void parametric_relu_backward(std::int64_t count, std::int64_t period, const float* input, const float* slope,
                              const float* output_gradient, bool accumulate, float* input_gradient,
                              float* slope_gradient);

// values [rows, columns] += bias [columns].
void add_to_rows(std::int64_t rows, std::int64_t columns, const float* bias, float* values);

// target (+)= source.
void pass_values(std::int64_t count, const float* source, bool accumulate, float* target);

}  // namespace jevrin::inline v1
