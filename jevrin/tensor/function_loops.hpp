// The functions of kinds.hpp and their slopes as code that loops over elements take in.
#pragma once

#include "jevrin/tensor/kinds.hpp"
#include "jevrin/tensor/vector_math.hpp"

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {

// A slope that is computed from the input of its function, or from the output.
template <typename Slope>
struct OfInput : Slope {
    static constexpr bool of_input = true;
};
template <typename Slope>
struct OfOutput : Slope {
    static constexpr bool of_input = false;
};

// Calls visit(value, slope) with the two functions of one element.
template <typename Visit>
auto with_function(const Function& f, Visit visit) {
    constexpr float root_half = 0.707106781F;
    const float alpha = f.alpha;
    const float beta = f.beta;
    switch (f.kind) {
        case FunctionKind::identity:
            break;
        case FunctionKind::relu:
            return visit([](float x) { return std::max(x, 0.0F); },
                         OfOutput{[](float y) { return y > 0.0F ? 1.0F : 0.0F; }});
        case FunctionKind::clip:
            return visit([=](float x) { return std::min(std::max(x, alpha), beta); },
                         OfInput{[=](float x) { return x > alpha && x < beta ? 1.0F : 0.0F; }});
        case FunctionKind::leaky_relu:
            return visit([=](float x) { return x >= 0.0F ? x : alpha * x; },
                         OfInput{[=](float x) { return x >= 0.0F ? 1.0F : alpha; }});
        case FunctionKind::sigmoid:
            return visit([](float x) { return fast_sigmoid(x); },
                         OfOutput{[](float y) { return y * (1.0F - y); }});
        case FunctionKind::hard_sigmoid:
            return visit([=](float x) { return std::min(std::max(alpha * x + beta, 0.0F), 1.0F); },
                         OfOutput{[=](float y) { return y > 0.0F && y < 1.0F ? alpha : 0.0F; }});
        case FunctionKind::hard_swish:
            return visit([](float x) { return x * std::min(std::max(x * (1.0F / 6.0F) + 0.5F, 0.0F), 1.0F); },
                         OfInput{[](float x) {
                             const float middle = x * (1.0F / 3.0F) + 0.5F;
                             return x <= -3.0F ? 0.0F : (x >= 3.0F ? 1.0F : middle);
                         }});
        case FunctionKind::silu:
            return visit([](float x) { return x * fast_sigmoid(x); }, OfInput{[](float x) {
                             const float s = fast_sigmoid(x);
                             return s * (1.0F + x * (1.0F - s));
                         }});
        case FunctionKind::tanh:
            return visit([](float x) { return fast_tanh(x); },
                         OfOutput{[](float y) { return 1.0F - y * y; }});
        case FunctionKind::erf:
            return visit([](float x) { return fast_erf(x); },
                         OfInput{[](float x) { return 1.12837917F * fast_exp(-x * x); }});
        case FunctionKind::gelu:
            return visit(
                [](float x) { return 0.5F * x * (1.0F + fast_erf(x * root_half)); }, OfInput{[](float x) {
                    constexpr float inverse_root_two_pi = 0.398942280F;
                    const float bell = fast_exp(-0.5F * x * x);
                    return 0.5F * (1.0F + fast_erf(x * root_half, bell)) + x * inverse_root_two_pi * bell;
                }});
        case FunctionKind::square_root:
            return visit([](float x) { return std::sqrt(x); }, OfOutput{[](float y) { return 0.5F / y; }});
        case FunctionKind::exponential:
            return visit([](float x) { return fast_exp(x); }, OfOutput{[](float y) { return y; }});
        case FunctionKind::logarithm:
            return visit([](float x) { return std::log(x); }, OfInput{[](float x) { return 1.0F / x; }});
        case FunctionKind::absolute:
            return visit([](float x) { return std::abs(x); },
                         OfInput{[](float x) { return x > 0.0F ? 1.0F : (x < 0.0F ? -1.0F : 0.0F); }});
        case FunctionKind::elu:
            return visit(
                [=](float x) {
                    return beta * (x >= 0.0F ? x : alpha * (fast_exp(std::min(x, 0.0F)) - 1.0F));
                },
                OfInput{[=](float x) {
                    return beta * (x >= 0.0F ? 1.0F : alpha * fast_exp(std::min(x, 0.0F)));
                }});
        case FunctionKind::softplus:
            return visit([](float x) { return std::max(x, 0.0F) + std::log1p(fast_exp(-std::abs(x))); },
                         OfInput{[](float x) { return fast_sigmoid(x); }});
        case FunctionKind::softsign:
            return visit([](float x) { return x / (1.0F + std::abs(x)); }, OfInput{[](float x) {
                             const float below = 1.0F + std::abs(x);
                             return 1.0F / (below * below);
                         }});
        case FunctionKind::thresholded_relu:
            return visit([=](float x) { return x > alpha ? x : 0.0F; },
                         OfInput{[=](float x) { return x > alpha ? 1.0F : 0.0F; }});
        case FunctionKind::round:
            return visit([](float x) { return std::nearbyint(x); }, OfInput{[](float) { return 0.0F; }});
    }
    return visit([](float x) { return x; }, OfOutput{[](float) { return 1.0F; }});
}

}  // namespace jevrin::inline v1
