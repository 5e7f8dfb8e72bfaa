// The preparation of images as nodes of a model file, so that every reader of the format prepares them alike.
#pragma once

#include "jevrin/exchange/model_file.hpp"
#include "jevrin/images/preparation.hpp"

#include <string>

namespace jevrin::inline v1 {

// From the bytes of decoded images, red, green and blue, to the network's input (fit_image(), ScalingTable,
// exactly), and from its logits over the temperature to probabilities. input and output: the names of the
// network's first and last node.
Surroundings preparation_graph(const Preparation& preparation, double temperature, const std::string& input,
                               const std::string& output);

}  // namespace jevrin::inline v1
