// Cuts a network at a boundary, and joins the halves again.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstddef>
#include <optional>
#include <string>

namespace jevrin::inline v1 {

// The two halves of a network at a boundary: the frozen part computes the boundary features of an item, the
// trained part makes the classes from them.
struct NetworkHalves {
    Network frozen;   // its output is the boundary value; only the input node when everything trains
    Network trained;  // its input is the boundary value
};

// Cuts before a node. Constants that only the trained part reads go with it. InputError when more than one
// value crosses the cut, naming them.
NetworkHalves cut_network(const Network& network, std::size_t first_trained);

// The last node at or before this one where cut_network() can cut; 1 when everything has to stay together.
std::size_t cut_before(const Network& network, std::size_t first_trained);

// The network of which cut_network() made these halves.
Network join_halves(const Network& frozen, const Network& trained);

// The network that ends at a node, what nothing there needs left out.
Network network_until(const Network& network, std::size_t node);

// Cuts a classifier before its head (find_features()), where its value is a vector of features (axes of 1 may
// stand before it); nothing when that cannot be.
std::optional<NetworkHalves> cut_at_head(const Network& network);

}  // namespace jevrin::inline v1
