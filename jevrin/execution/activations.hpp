// The activations of each stage of a network for one image.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct StageActivation {
    std::string stage;
    std::string layer;  // the last of the stage, whose output this is
    Tensor values;      // of one item
    double mean = 0.0;
    double deviation = 0.0;
    double zeros = 0.0;  // fraction of the values that are exactly 0
    // Share of the channels (the last dimension) that are 0 everywhere.
    double silent = 0.0;
};

// The value of one node. input is one item, as the network takes it.
StageActivation activation_at(const Network& network, std::size_t node, std::span<const float> input);
// Of the last node of every stage whose value is no single number.
std::vector<StageActivation> stage_activations(const Network& network, std::span<const float> input);

// The weight of the first convolution, [height, width, in, out]; null when there is none.
const Tensor* first_filters(const Network& network);

}  // namespace jevrin::inline v1
