// An order of classes for large matrices.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"

#include <cstddef>
#include <vector>

namespace jevrin::inline v1 {

// All classes, so that those confused with each other stand side by side: the pairs with the largest fraction
// of their items exchanged become neighbours first, as long as each class has at most two. Classes without
// confusions stay in their order.
std::vector<std::size_t> order_by_confusion(const ConfusionMatrix& matrix);

// The matrix with its classes in this order.
ConfusionMatrix reordered(const ConfusionMatrix& matrix, const std::vector<std::size_t>& order);

}  // namespace jevrin::inline v1
