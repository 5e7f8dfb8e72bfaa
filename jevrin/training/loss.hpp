// Softmax cross-entropy, the loss of all regimes.
#pragma once

#include "jevrin/images/augmentation.hpp"

#include <cstddef>
#include <cstdint>
#include <span>

namespace jevrin {

// What a batch says about its labels.
struct BatchLoss {
    // Of -weight (share log p(label) + (1 - share) log p(other)), natural logarithm; without mixing and
    // weights -log p(label).
    double loss_sum = 0.0;
    std::int64_t correct = 0;  // predictions of the first label
};

// logits [batch, classes]; gradient (same shape, may be empty) receives that of the mean loss with respect to
// the logits, weight (softmax - target) / batch. Sums are in double. Ties go to the first class.
BatchLoss cross_entropy(std::int64_t classes, std::span<const float> logits, std::span<const Target> targets,
                        std::span<float> gradient);

// Targets of unmixed pictures of weight 1.
std::vector<Target> plain_targets(std::span<const std::size_t> labels);

}  // namespace jevrin
