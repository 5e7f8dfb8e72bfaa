// The rewrites of a network, each to a network of the same function.
#pragma once

#include "jevrin/graph/graph.hpp"

namespace jevrin::inline v1 {

// recomposed_operators.cpp: one operator in place of several into which an exporter decomposed it. The new
// one has the name of the last node that it replaces; nodes that are no longer read stay until
// remove_unused().
Network recompose_dense_layers(Network network);          // a product with weights and a sum
Network recompose_layer_normalisations(Network network);  // mean subtracted, divided by the deviation
Network recompose_activations(
    Network network);  // x (1 + erf(x / sqrt 2)) / 2, x sigmoid(x), x hard_sigmoid(x)

// What a file does with the image before its first convolution or dense layer, such as scaling, never trains.
Network fix_preparation(Network network);

// rewriting.cpp
Network remove_unused(Network network);        // nodes that the output does not depend on
Network remove_dropout(Network network);       // the identity in inference
Network fuse_normalisations(Network network);  // stored statistics, into the convolution before them
Network fuse_activations(Network network);     // into the convolution or dense layer before them
Network fuse_rectified_sums(Network network);  // a ReLU into the sum before it

// separable_convolutions.cpp: a depthwise convolution and the 1x1 convolutions around it become one node, the
// sum behind them as well. The node has the name of the last of them.
Network join_separable_convolutions(Network network);

}  // namespace jevrin::inline v1
