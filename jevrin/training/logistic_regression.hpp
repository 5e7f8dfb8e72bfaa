// Multinomial logistic regression on features, solved to convergence: an inexpensive baseline for a backbone.
//
//     LogisticRegression fit = fit_logistic_regression(features, labels, {}, classes, {.l2_regularisation
//     = 1.0});
#pragma once

#include "jevrin/tensor/tensor.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

struct LogisticSettings {
    double l2_regularisation = 1.0;  // of the weights of standardised features, not of the biases
    double tolerance = 1e-6;         // the largest slope of the mean loss that counts as none
    std::int64_t most_steps = 1000;
};

struct LogisticRegression {
    Tensor weight;       // [features, classes]
    Tensor bias;         // [classes]
    double loss = 0.0;   // mean cross-entropy, without the regularisation
    double slope = 0.0;  // the largest slope that is left
    std::int64_t steps = 0;
    bool converged = false;
};

// Minimises the mean cross-entropy plus l2_regularisation / (2 items) * |weights|^2 over features that are
// brought to mean 0 and deviation 1 (and back in the result), by the limited-memory method of Broyden,
// Fletcher, Goldfarb and Shanno (Nocedal 1980) in double. features is [items, width], labels are below
// classes; weights of the items may be empty. The problem is convex: the result does not depend on a seed.
LogisticRegression fit_logistic_regression(std::span<const float> features,
                                           std::span<const std::size_t> labels,
                                           std::span<const double> weights, std::size_t classes,
                                           const LogisticSettings& settings);

}  // namespace jevrin::inline v1
