// The influence of each item on a score.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// The score plus n times its derivative by the weight of item i (the infinitesimal jackknife: Jaeckel 1972).
// Their mean is the score, and they may be compared item by item between models. For accuracy they are 1 and
// 0; for balanced accuracy an item of a class with n_c of n items counts n / n_c times, about its class's
// recall.
std::vector<double> item_influences(std::size_t classes, std::span<const std::size_t> labels,
                                    std::span<const std::size_t> predicted, Metric metric);

// The stratum of each item within which its influence varies: its class; none where the score is no mean over
// classes (accuracy).
std::vector<std::uint32_t> item_strata(std::span<const std::size_t> labels, Metric metric);

}  // namespace jevrin::inline v1
