// Building networks: backbones from the literature, heads, and random weights as published.
#pragma once

#include "jevrin/network/graph.hpp"

#include <cstdint>
#include <vector>

namespace jevrin {

// A residual backbone (He 2016): a 3x3 convolution with this stride, one stage per width with
// this many blocks of two 3x3 convolutions each, every stage but the first halving the map; then the global
// average. Stages are called stem, stage1, stage2, ..., pool.
struct ResidualSettings {
    std::vector<std::int64_t> widths = {16, 32, 64};
    std::int64_t blocks = 1;
    std::int64_t stem_stride = 2;
};
Network residual_backbone(const ResidualSettings& settings, const Shape& input);

// What stands between the backbone and the classes: hidden dense layers with ReLU, dropout before every dense
// layer.
struct HeadSettings {
    std::vector<std::int64_t> hidden;
    double dropout = 0.0;
};
// The output of the backbone must be a vector. Nodes are called head.*; the last is the dense layer of the
// classes.
void append_head(Network& backbone, const HeadSettings& settings, std::int64_t classes);

// Replaces all parameters from a node on by random ones: normal with variance 2 / fan_in before a ReLU (He
// 2015) and 1 / fan_in in the last dense layer; biases and shifts 0, scales 1. Keyed by seed and node name.
void initialise(Network& network, std::size_t first_node, std::uint64_t seed);

}  // namespace jevrin
