// The first filters of a network, and the activation maps of each stage, as images.
#pragma once

#include "jevrin/execution/activations.hpp"
#include "jevrin/figures/sheet.hpp"

#include <vector>

namespace jevrin::inline v1 {

// One image for each filter, at most so many: in colour for filters on three channels, the sum over the
// channels otherwise. Grey stands for 0.
SheetRow filter_images(const Tensor& filters, std::size_t most);

// The maps of a stage whose channels vary most, dark for the lowest value and light for the highest; rows of
// tokens that come from a square of patches show the length of each token. Empty for vectors.
SheetRow map_images(const StageActivation& stage, std::size_t most);

}  // namespace jevrin::inline v1
