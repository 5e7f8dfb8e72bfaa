#include "jevrin/tensor/pointwise.hpp"

#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/reduction.hpp"
#include "jevrin/tensor/scratch.hpp"
#include "jevrin/tensor/vector_math.hpp"

#include <algorithm>
#include <cmath>
#include <iterator>

namespace jevrin::inline v1 {
namespace {

constexpr float root_half = 0.707106781F;

// Calls visit(value, slope) with the two functions of one element; slope takes the input or the output, as
// slope_needs_input() says.
template <typename Visit>
void with_function(const Function& f, Visit visit) {
    const float alpha = f.alpha;
    const float beta = f.beta;
    switch (f.kind) {
        case FunctionKind::identity:
            return visit([](float x) { return x; }, [](float) { return 1.0F; });
        case FunctionKind::relu:
            return visit([](float x) { return std::max(x, 0.0F); },
                         [](float y) { return y > 0.0F ? 1.0F : 0.0F; });
        case FunctionKind::clip:
            return visit([=](float x) { return std::min(std::max(x, alpha), beta); },
                         [=](float x) { return x > alpha && x < beta ? 1.0F : 0.0F; });
        case FunctionKind::leaky_relu:
            return visit([=](float x) { return x >= 0.0F ? x : alpha * x; },
                         [=](float x) { return x >= 0.0F ? 1.0F : alpha; });
        case FunctionKind::sigmoid:
            return visit([](float x) { return fast_sigmoid(x); }, [](float y) { return y * (1.0F - y); });
        case FunctionKind::hard_sigmoid:
            return visit([=](float x) { return std::min(std::max(alpha * x + beta, 0.0F), 1.0F); },
                         [=](float y) { return y > 0.0F && y < 1.0F ? alpha : 0.0F; });
        case FunctionKind::hard_swish:
            return visit([](float x) { return x * std::min(std::max(x * (1.0F / 6.0F) + 0.5F, 0.0F), 1.0F); },
                         [](float x) {
                             const float middle = x * (1.0F / 3.0F) + 0.5F;
                             return x <= -3.0F ? 0.0F : (x >= 3.0F ? 1.0F : middle);
                         });
        case FunctionKind::silu:
            return visit([](float x) { return x * fast_sigmoid(x); },
                         [](float x) {
                             const float s = fast_sigmoid(x);
                             return s * (1.0F + x * (1.0F - s));
                         });
        case FunctionKind::tanh:
            return visit([](float x) { return fast_tanh(x); }, [](float y) { return 1.0F - y * y; });
        case FunctionKind::erf:
            return visit([](float x) { return fast_erf(x); },
                         [](float x) { return 1.12837917F * fast_exp(-x * x); });
        case FunctionKind::gelu:
            return visit([](float x) { return 0.5F * x * (1.0F + fast_erf(x * root_half)); },
                         [](float x) {
                             constexpr float inverse_root_two_pi = 0.398942280F;
                             const float bell = fast_exp(-0.5F * x * x);
                             return 0.5F * (1.0F + fast_erf(x * root_half, bell)) +
                                    x * inverse_root_two_pi * bell;
                         });
        case FunctionKind::square_root:
            return visit([](float x) { return std::sqrt(x); }, [](float y) { return 0.5F / y; });
        case FunctionKind::exponential:
            return visit([](float x) { return fast_exp(x); }, [](float y) { return y; });
        case FunctionKind::logarithm:
            return visit([](float x) { return std::log(x); }, [](float x) { return 1.0F / x; });
        case FunctionKind::absolute:
            return visit([](float x) { return std::abs(x); },
                         [](float x) { return x > 0.0F ? 1.0F : (x < 0.0F ? -1.0F : 0.0F); });
        case FunctionKind::elu:
            return visit(
                [=](float x) {
                    return beta * (x >= 0.0F ? x : alpha * (fast_exp(std::min(x, 0.0F)) - 1.0F));
                },
                [=](float x) { return beta * (x >= 0.0F ? 1.0F : alpha * fast_exp(std::min(x, 0.0F))); });
        case FunctionKind::softplus:
            return visit([](float x) { return std::max(x, 0.0F) + std::log1p(fast_exp(-std::abs(x))); },
                         [](float x) { return fast_sigmoid(x); });
        case FunctionKind::softsign:
            return visit([](float x) { return x / (1.0F + std::abs(x)); },
                         [](float x) {
                             const float below = 1.0F + std::abs(x);
                             return 1.0F / (below * below);
                         });
        case FunctionKind::thresholded_relu:
            return visit([=](float x) { return x > alpha ? x : 0.0F; },
                         [=](float x) { return x > alpha ? 1.0F : 0.0F; });
        case FunctionKind::round:
            return visit([](float x) { return std::nearbyint(x); }, [](float) { return 0.0F; });
    }
}

}  // namespace

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
    switch (function.kind) {
        case FunctionKind::identity:
        case FunctionKind::relu:
        case FunctionKind::sigmoid:
        case FunctionKind::hard_sigmoid:
        case FunctionKind::tanh:
        case FunctionKind::square_root:
        case FunctionKind::exponential:
            return false;
        case FunctionKind::clip:
        case FunctionKind::leaky_relu:
        case FunctionKind::hard_swish:
        case FunctionKind::silu:
        case FunctionKind::erf:
        case FunctionKind::gelu:
        case FunctionKind::logarithm:
        case FunctionKind::absolute:
        case FunctionKind::elu:
        case FunctionKind::softplus:
        case FunctionKind::softsign:
        case FunctionKind::thresholded_relu:
        case FunctionKind::round:
            break;
    }
    return true;
}

void apply(const Function& function, std::int64_t count, const float* input, float* output) {
    with_function(function, [&](auto value, auto) {
        for_elements(count, [&](std::int64_t begin, std::int64_t end) {
            for (std::int64_t i = begin; i < end; ++i) output[i] = value(input[i]);
        });
    });
}

void apply_to_rows(const Function& function, std::int64_t rows, std::int64_t width, std::int64_t stride,
                   float* values) {
    with_function(function, [&](auto value, auto) {
        for (std::int64_t r = 0; r < rows; ++r)
            for (std::int64_t i = r * stride; i < r * stride + width; ++i) values[i] = value(values[i]);
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
