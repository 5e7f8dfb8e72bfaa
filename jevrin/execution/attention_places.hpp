// Finds the attention in a network: two matrix products with a softmax between them, whose operands are
// slices, transpositions and reshaped forms of other values. One step can then read the heads where they lie.
#pragma once

#include "jevrin/graph/graph.hpp"
#include "jevrin/tensor/attention.hpp"

#include <cstddef>
#include <vector>

namespace jevrin::inline v1 {

struct AttentionPlace {
    std::size_t product = 0;  // the node of the second matrix product
    std::size_t last = 0;     // the node whose value the step makes
    AttentionShape shape;
    std::vector<std::size_t> sources;  // the nodes whose values it reads, each once
    std::vector<bool> covers;          // of each source: whether every element is read
    // The sources of the operands, as places in sources.
    std::size_t query = 0;
    std::size_t key = 0;
    std::size_t value = 0;
};

struct AttentionPlaces {
    std::vector<AttentionPlace> places;  // in order of last
    std::vector<bool> absorbed;          // of each node: nothing else needs its value; also at each last
};

// shapes are those of the network's values (infer_shapes()).
AttentionPlaces find_attention(const Network& network, const std::vector<Shape>& shapes);

}  // namespace jevrin::inline v1
