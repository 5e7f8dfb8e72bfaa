// Softmax cross-entropy, the loss of all regimes.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>

namespace jevrin {

// What a batch says about its labels.
struct BatchLoss {
    double loss_sum = 0.0;  // of -log(probability of the label), natural logarithm
    std::int64_t correct = 0;
};

// logits [batch, classes]; gradient (same shape, may be empty) receives that of the mean loss with respect to
// the logits, (softmax - one-hot) / batch. Sums are in double. Ties go to the first class.
BatchLoss cross_entropy(std::int64_t classes, std::span<const float> logits,
                        std::span<const std::size_t> labels, std::span<float> gradient);

}  // namespace jevrin
