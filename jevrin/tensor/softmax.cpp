#include "jevrin/tensor/softmax.hpp"

#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/vector_math.hpp"

#include <algorithm>
#include <cmath>

namespace jevrin {
namespace {

// Calls body(offset of the first value) for each distribution.
template <typename Body>
void for_distributions(const SoftmaxShape& s, Body body) {
    for_rows(s.outer, s.length * s.inner, [&](std::int64_t row) {
        for (std::int64_t i = 0; i < s.inner; ++i) body(row * s.length * s.inner + i);
    });
}

float largest(const SoftmaxShape& s, const float* values) {
    float result = values[0];
    for (std::int64_t k = 1; k < s.length; ++k) result = std::max(result, values[k * s.inner]);
    return result;
}

void assign(float& target, bool accumulate, float value) {
    target = accumulate ? target + value : value;
}

}  // namespace

void softmax(const SoftmaxShape& s, const float* input, float* output) {
    for_distributions(s, [&](std::int64_t first) {
        const float* in = input + first;
        float* out = output + first;
        const float top = largest(s, in);
        for (std::int64_t k = 0; k < s.length; ++k) out[k * s.inner] = fast_exp(in[k * s.inner] - top);
        double sum = 0.0;
        for (std::int64_t k = 0; k < s.length; ++k) sum += static_cast<double>(out[k * s.inner]);
        const auto share = static_cast<float>(1.0 / sum);
        for (std::int64_t k = 0; k < s.length; ++k) out[k * s.inner] *= share;
    });
}

void log_softmax(const SoftmaxShape& s, const float* input, float* output) {
    for_distributions(s, [&](std::int64_t first) {
        const float* in = input + first;
        float* out = output + first;
        const float top = largest(s, in);
        double sum = 0.0;
        for (std::int64_t k = 0; k < s.length; ++k)
            sum += static_cast<double>(fast_exp(in[k * s.inner] - top));
        const auto total = static_cast<float>(std::log(sum));
        for (std::int64_t k = 0; k < s.length; ++k) out[k * s.inner] = (in[k * s.inner] - top) - total;
    });
}

void softmax_backward(const SoftmaxShape& s, const float* output, const float* output_gradient,
                      bool accumulate, float* input_gradient) {
    for_distributions(s, [&](std::int64_t first) {
        const float* out = output + first;
        const float* gradient = output_gradient + first;
        double sum = 0.0;
        for (std::int64_t k = 0; k < s.length; ++k)
            sum += static_cast<double>(out[k * s.inner] * gradient[k * s.inner]);
        const auto mean = static_cast<float>(sum);
        for (std::int64_t k = 0; k < s.length; ++k)
            assign(input_gradient[first + k * s.inner], accumulate,
                   out[k * s.inner] * (gradient[k * s.inner] - mean));
    });
}

void log_softmax_backward(const SoftmaxShape& s, const float* output, const float* output_gradient,
                          bool accumulate, float* input_gradient) {
    for_distributions(s, [&](std::int64_t first) {
        const float* out = output + first;
        const float* gradient = output_gradient + first;
        double sum = 0.0;
        for (std::int64_t k = 0; k < s.length; ++k) sum += static_cast<double>(gradient[k * s.inner]);
        const auto total = static_cast<float>(sum);
        for (std::int64_t k = 0; k < s.length; ++k)
            assign(input_gradient[first + k * s.inner], accumulate,
                   gradient[k * s.inner] - fast_exp(out[k * s.inner]) * total);
    });
}

}  // namespace jevrin
