// The influence of each item on a score.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"

#include <cstddef>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// Jackknife pseudo-values (Tukey 1958): n * score(all) - (n - 1) * score(all but item i). Their mean
// estimates the score, and they may be compared item by item between models. For accuracy they are 1 and 0.
// An item alone in its class has no score without it; it counts with the score of all.
std::vector<double> item_influences(std::size_t classes, std::span<const std::size_t> labels,
                                    std::span<const std::size_t> predicted, Metric metric);

}  // namespace jevrin::inline v1
