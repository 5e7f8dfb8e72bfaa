// Softmax and its logarithm along one dimension of [outer, length, inner] arrays.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

struct SoftmaxShape {
    std::int64_t outer = 1;
    std::int64_t length = 1;  // the values of one distribution lie inner elements apart
    std::int64_t inner = 1;
};

// output = e^input / sum(e^input), or its logarithm; sums are kept in double. output may be the input.
void softmax(const SoftmaxShape& shape, const float* input, float* output);
void log_softmax(const SoftmaxShape& shape, const float* input, float* output);

// input_gradient (+)= ..., from the output of forward; it may be output_gradient.
void softmax_backward(const SoftmaxShape& shape, const float* output, const float* output_gradient,
                      bool accumulate, float* input_gradient);
void log_softmax_backward(const SoftmaxShape& shape, const float* output, const float* output_gradient,
                          bool accumulate, float* input_gradient);

}  // namespace jevrin::inline v1
