// The passes of the rewriting pipeline, each a network to a network of the same function.
#pragma once

#include "jevrin/graph/graph.hpp"

namespace jevrin::inline v1 {

// joined_operators.cpp: one operator where an exporter spelled it out. The new one has the name of the last
// node that it stands for; nodes that nothing reads any more stay until remove_unused().
Network join_biases(Network network);                // a product with weights and a sum: a dense layer
Network join_layer_normalisations(Network network);  // the mean taken off, the deviation divided out
Network join_activations(Network network);  // x (1 + erf(x / sqrt 2)) / 2, x sigmoid(x), x hard_sigmoid(x)

// rewriting.cpp
Network remove_unused(Network network);        // nodes that the output does not depend on
Network remove_dropout(Network network);       // inference leaves nothing out
Network fold_normalisations(Network network);  // stored statistics, into the convolution before them
Network fuse_activations(Network network);     // into the convolution before them
Network fuse_rectified_sums(Network network);  // a ReLU into the sum before it

}  // namespace jevrin::inline v1
