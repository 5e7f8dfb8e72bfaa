// A network as a sequence of layers.
//
//     LayerList list{{{.kind = LayerKind::convolution, .width = 16},
//                     {.kind = LayerKind::activation},
//                     {.kind = LayerKind::global_average},
//                     {.kind = LayerKind::dense, .width = 6}}};
//     Network network = layer_network(list, {64, 64, 3});
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/graph/graph.hpp"

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

enum class LayerKind {
    convolution,    // width, kernel, stride, dilation, groups; padded so that stride 1 keeps the size; bias
    normalisation,  // by batch, channel by channel
    layer_normalisation,  // by item, over channels or features
    group_normalisation,  // by item, in groups of channels
    activation,           // function
    max_pooling,          // kernel, stride (as the kernel unless stated)
    average_pooling,      // likewise
    global_average,       // of an image, to a vector
    dropout,              // rate
    flatten,              // an image to a vector
    dense,                // width; bias
    residual_block,       // width, stride: two 3x3 convolutions and the way around them (He 2016)
};

const EnumNames<LayerKind>& names_of(LayerKind);

struct Layer {
    LayerKind kind = LayerKind::convolution;
    std::int64_t width = 0;   // channels or features that it gives; 0: not stated
    std::int64_t inputs = 0;  // channels or features that it is written for; 0: not stated
    std::int64_t kernel = 3;
    std::int64_t stride = 0;  // 0: 1, or the kernel for pooling
    std::int64_t dilation = 1;
    std::int64_t groups = 1;
    FunctionKind function = FunctionKind::relu;
    double rate = 0.5;
    std::string name;   // "layer3" when it has none
    std::string place;  // "FILE:LINE:COLUMN", for messages
};

// A layer of this kind with what is usual for it: pooling takes 2x2 pixels.
Layer layer_of(LayerKind kind);

struct LayerList {
    std::vector<Layer> layers;

    // Whether the list makes the classes itself: it ends in a dense layer, behind which no head is wanted.
    bool ends_in_dense() const { return !layers.empty() && layers.back().kind == LayerKind::dense; }
};

// Every node of a layer begins with the layer's name, which is thus a stage. Weights are zero. InputError
// names both sides of a clash: the layer, what it needs, and what the layer before it gives.
Network layer_network(const LayerList& list, const Shape& input);

}  // namespace jevrin::inline v1
