// Names and versions of the computing libraries.
#pragma once

#include <map>
#include <string>

namespace jevrin::inline v1 {

// Counted up when the same inputs give other bits. 2: 3x3 convolutions in transformed tiles. 3: normalisation
// with sums and activations, depthwise convolutions with bias, attention in one step. 4: weight gradients of
// few channels, of strides and of dense layers in larger blocks, first convolutions over windows.
constexpr int arithmetic_version = 4;

// Their versions, by name.
std::map<std::string, std::string> compute_libraries();

}  // namespace jevrin::inline v1
