// A small residual classifier whose normalisation has something to normalise.
#pragma once

#include "support/support.hpp"

#include "jevrin/graph/architecture.hpp"

namespace jevrin::test {

inline Network small_network() {
    Network network = residual_backbone({.widths = {4, 6}, .blocks = {1}, .stem_stride = 1}, {8, 8, 3});
    append_head(network, {.hidden = {5}, .dropout = 0.3}, 3);
    initialise(network, 0, 1);
    for (Node& node : network.nodes)
        if (std::holds_alternative<operators::BatchNormalisation>(node.op)) {
            node.parameters[1] = random_tensor(node.parameters[1].shape(), 8, 0.3);
            node.parameters[2] = random_tensor(node.parameters[2].shape(), 9, 0.3);
            node.parameters[3].fill(0.7F);
        }
    return network;
}

}  // namespace jevrin::test
