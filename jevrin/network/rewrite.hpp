// Networks made from networks: cut at a boundary, joined again, the backbone without its head, folded for
// inference.
#pragma once

#include "jevrin/network/graph.hpp"

#include <cstddef>

namespace jevrin {

// The two halves of a network at a boundary: the frozen part computes the boundary features of an item, the
// trained part makes the classes from them.
struct Division {
    Network frozen;   // its output is the boundary value; only the input node when everything trains
    Network trained;  // its input is the boundary value
};

// Cuts before a node. InputError when more than one value crosses the cut, naming them.
Division divide(const Network& network, std::size_t first_trained);

// The network of which divide() made these halves.
Network join(const Network& frozen, const Network& trained);

// The network without the dense layers (and their ReLU and dropout) at its end: a backbone whose output is a
// vector. InputError when the network does not end in a dense layer after a vector.
Network without_head(const Network& network);

// The same function with fewer steps: normalisation with stored statistics and ReLU move into the convolution
// before them, dropout disappears. Each of them only where nothing else uses the value in between.
Network fold_for_inference(const Network& network);

}  // namespace jevrin
