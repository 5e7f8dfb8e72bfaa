#include "jevrin/tensor/pointwise.hpp"

#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/function_loops.hpp"
#include "jevrin/tensor/reduction.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

const EnumNames<FunctionKind>& names_of(FunctionKind) {
    using K = FunctionKind;
    static const EnumNames<K> names("activation", {{K::identity, "identity"},
                                                   {K::relu, "relu"},
                                                   {K::clip, "clip"},
                                                   {K::leaky_relu, "leaky relu"},
                                                   {K::sigmoid, "sigmoid"},
                                                   {K::hard_sigmoid, "hard sigmoid"},
                                                   {K::hard_swish, "hard swish"},
                                                   {K::silu, "silu"},
                                                   {K::tanh, "tanh"},
                                                   {K::erf, "erf"},
                                                   {K::gelu, "gelu"},
                                                   {K::square_root, "square root"},
                                                   {K::exponential, "exponential"},
                                                   {K::logarithm, "logarithm"},
                                                   {K::absolute, "absolute"},
                                                   {K::elu, "elu"},
                                                   {K::softplus, "softplus"},
                                                   {K::softsign, "softsign"},
                                                   {K::thresholded_relu, "thresholded relu"},
                                                   {K::round, "round"}});
    return names;
}

bool slope_needs_input(const Function& function) {
    return with_function(function, [](auto, auto slope) { return decltype(slope)::of_input; });
}

void apply(const Function& function, std::int64_t count, const float* input, float* output) {
    with_function(function, [&](auto value, auto) {
        for_elements(count, [&](std::int64_t begin, std::int64_t end) {
            for (std::int64_t i = begin; i < end; ++i) output[i] = value(input[i]);
        });
    });
}

void apply_to_rows(const Function& function, const float* bias, std::int64_t rows, std::int64_t width,
                   std::int64_t stride, float* values) {
    if (bias == nullptr && function.kind == FunctionKind::identity) return;
    with_function(function, [&](auto value, auto) {
        for (std::int64_t r = 0; r < rows; ++r) {
            float* row = values + r * stride;
            if (bias == nullptr)
                for (std::int64_t i = 0; i < width; ++i) row[i] = value(row[i]);
            else
#pragma GCC ivdep
                for (std::int64_t i = 0; i < width; ++i) row[i] = value(row[i] + bias[i]);
        }
    });
}

void apply_backward(const Function& function, std::int64_t count, const float* known,
                    const float* output_gradient, bool accumulate, float* input_gradient) {
    with_function(function, [&](auto, auto slope) {
        assign_elements(count, accumulate, input_gradient,
                        [=](std::int64_t i) { return output_gradient[i] * slope(known[i]); });
    });
}

void parametric_relu(std::int64_t count, std::int64_t period, const float* input, const float* slope,
                     float* output) {
    for_periods(count, period, [&](std::int64_t begin, std::int64_t end) {
        for (std::int64_t row = begin; row < end; row += period)
            for (std::int64_t c = 0; c < period; ++c) {
                const float x = input[row + c];
                output[row + c] = x >= 0.0F ? x : slope[c] * x;
            }
    });
}

void parametric_relu_backward(std::int64_t count, std::int64_t period, const float* input, const float* slope,
                              const float* output_gradient, bool accumulate, float* input_gradient,
                              float* slope_gradient) {
    const Scratch terms(count);
    for_elements(count, [&](std::int64_t begin, std::int64_t end) {
        for (std::int64_t i = begin; i < end; ++i)
            terms.data()[i] = output_gradient[i] * std::min(input[i], 0.0F);
    });
    sum_rows(count / period, period, terms.data(), slope_gradient);
    if (input_gradient == nullptr) return;
    for_periods(count, period, [&](std::int64_t begin, std::int64_t end) {
        for (std::int64_t row = begin; row < end; row += period)
            for (std::int64_t c = 0; c < period; ++c) {
                const float value = output_gradient[row + c] * (input[row + c] >= 0.0F ? 1.0F : slope[c]);
                input_gradient[row + c] = accumulate ? input_gradient[row + c] + value : value;
            }
    });
}

void add_to_rows(std::int64_t rows, std::int64_t columns, const float* bias, float* values) {
    for_rows(rows, columns, [&](std::int64_t row) {
        for (std::int64_t c = 0; c < columns; ++c) values[row * columns + c] += bias[c];
    });
}

void pass_values(std::int64_t count, const float* source, bool accumulate, float* target) {
    assign_elements(count, accumulate, target, [=](std::int64_t i) { return source[i]; });
}

}  // namespace jevrin::inline v1
