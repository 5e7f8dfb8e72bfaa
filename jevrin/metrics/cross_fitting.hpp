// Predictions at epochs that were not chosen on the items that they are scored on.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// The half (0 or 1) of each item: whole units, about as many of each class in both, drawn by the seed, so
// that they are the same for all candidates and others for other seeds. units, labels: of the items.
std::vector<std::uint8_t> halves_of(std::span<const std::int64_t> units, std::span<const std::size_t> labels,
                                    std::int64_t seed);

// For each item the prediction at the epoch that is best, by this metric, on the half that it is not in; of
// equal ones the first. epochs: [epoch][item], at least one.
std::vector<std::size_t> cross_fitted(std::span<const std::vector<std::size_t>> epochs,
                                      std::span<const std::size_t> labels,
                                      std::span<const std::uint8_t> halves, std::size_t classes,
                                      Metric metric);

}  // namespace jevrin::inline v1
