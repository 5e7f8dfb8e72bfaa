// Which layers train, and with which learning-rate factors.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstddef>
#include <cstdint>
#include <string>

namespace jevrin::inline v1 {

// The nodes of a network that come from its backbone are [1, end).
// Where the last so many weighted layers (convolutions and dense layers) of the backbone begin. InputError
// when it has fewer.
std::size_t boundary_of_last(const Network& network, std::size_t end, std::int64_t layers);
// Where the shortest end of the backbone begins that holds at least this fraction of its parameters, at a
// weighted layer.
std::size_t boundary_of_share(const Network& network, std::size_t end, double share);

// Freezes every node before this one, and no other. Parameters that nodes on both sides share are parted.
void freeze_before(Network& network, std::size_t first_trained);

// Parameters of the nodes that are not frozen, statistics not counted.
std::int64_t trainable_parameter_count(const Network& network);

// Normalisation by batch in [begin, end) keeps its statistics while its scales and shifts train.
void fix_statistics(Network& network, std::size_t begin, std::size_t end);

// Nodes that belong to a stage or layer learn at this multiple of the learning rate. InputError when there
// are none.
void set_rate_factor(Network& network, const std::string& stage_or_node, double factor);

}  // namespace jevrin::inline v1
