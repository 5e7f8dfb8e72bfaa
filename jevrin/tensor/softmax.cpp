#include "jevrin/tensor/softmax.hpp"

#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/vector_math.hpp"

#include <algorithm>
#include <cmath>
#include <type_traits>

namespace jevrin::inline v1 {
namespace {

// Calls body(offset of the first value, step) for each distribution; the step between its values is known at
// compile time when they lie together, so that loops over them become vector instructions.
template <typename Body>
void for_distributions(const SoftmaxShape& s, Body body) {
    for_rows(s.outer, s.length * s.inner, [&](std::int64_t row) {
        if (s.inner == 1)
            body(row * s.length, std::integral_constant<std::int64_t, 1>());
        else
            for (std::int64_t i = 0; i < s.inner; ++i) body(row * s.length * s.inner + i, s.inner);
    });
}

// The largest of values that lie a step apart.
template <typename Step>
float largest(std::int64_t length, Step step, const float* values) {
    return largest_term(length, [=](std::int64_t k) { return values[k * step]; });
}

}  // namespace

void softmax(const SoftmaxShape& s, const float* input, float* output) {
    for_distributions(s, [&](std::int64_t first, auto step) {
        const float* in = input + first;
        float* out = output + first;
        const float top = largest(s.length, step, in);
        for (std::int64_t k = 0; k < s.length; ++k) out[k * step] = fast_exp(in[k * step] - top);
        const auto share =
            static_cast<float>(1.0 / sum_terms(s.length, [=](std::int64_t k) { return out[k * step]; }));
        for (std::int64_t k = 0; k < s.length; ++k) out[k * step] *= share;
    });
}

void log_softmax(const SoftmaxShape& s, const float* input, float* output) {
    for_distributions(s, [&](std::int64_t first, auto step) {
        const float* in = input + first;
        float* out = output + first;
        const float top = largest(s.length, step, in);
        const auto total = static_cast<float>(
            std::log(sum_terms(s.length, [=](std::int64_t k) { return fast_exp(in[k * step] - top); })));
        for (std::int64_t k = 0; k < s.length; ++k) out[k * step] = (in[k * step] - top) - total;
    });
}

void softmax_backward(const SoftmaxShape& s, const float* output, const float* output_gradient,
                      bool accumulate, float* input_gradient) {
    for_distributions(s, [&](std::int64_t first, auto step) {
        const float* out = output + first;
        const float* gradient = output_gradient + first;
        float* target = input_gradient + first;
        const auto mean = static_cast<float>(
            sum_terms(s.length, [=](std::int64_t k) { return out[k * step] * gradient[k * step]; }));
        for (std::int64_t k = 0; k < s.length; ++k) {
            const float value = out[k * step] * (gradient[k * step] - mean);
            target[k * step] = accumulate ? target[k * step] + value : value;
        }
    });
}

void log_softmax_backward(const SoftmaxShape& s, const float* output, const float* output_gradient,
                          bool accumulate, float* input_gradient) {
    for_distributions(s, [&](std::int64_t first, auto step) {
        const float* out = output + first;
        const float* gradient = output_gradient + first;
        float* target = input_gradient + first;
        const auto total =
            static_cast<float>(sum_terms(s.length, [=](std::int64_t k) { return gradient[k * step]; }));
        for (std::int64_t k = 0; k < s.length; ++k) {
            const float value = gradient[k * step] - fast_exp(out[k * step]) * total;
            target[k * step] = accumulate ? target[k * step] + value : value;
        }
    });
}

}  // namespace jevrin::inline v1
