// Building networks: backbones from the literature or layer by layer, heads, and random weights as published.
#pragma once

#include "jevrin/graph/graph.hpp"
#include "jevrin/graph/layer_list.hpp"

#include <cstdint>
#include <variant>
#include <vector>

namespace jevrin::inline v1 {

// A residual backbone (He 2016): a convolution with this kernel and stride and, if asked, a 3x3 maximum with
// stride 2; one stage per width, every stage but the first halving the map; then the global average. Stages
// are called stem, stage1, stage2, ..., pool. A basic block has two 3x3 convolutions of the stage's width; a
// bottleneck 1x1, 3x3, 1x1, the last four times as wide.
enum class ResidualBlock { basic, bottleneck };
struct ResidualSettings {
    std::vector<std::int64_t> widths = {16, 32, 64};
    std::vector<std::int64_t> blocks = {1};  // of each stage; one number holds for all
    ResidualBlock block = ResidualBlock::basic;
    std::int64_t stem_stride = 2;
    std::int64_t stem_kernel = 3;
    bool stem_pool = false;
};
Network residual_backbone(const ResidualSettings& settings, const Shape& input);

// A multi-layer perceptron (Rumelhart 1986): the image as one row of numbers, then dense layers with an
// activation and dropout behind each.
struct PerceptronSettings {
    std::vector<std::int64_t> hidden = {256, 128};
    FunctionKind activation = FunctionKind::relu;
    double dropout = 0.0;
};
Network perceptron_backbone(const PerceptronSettings& settings, const Shape& input);

// A plain backbone: stages of 3x3 convolutions with batch normalisation and ReLU, a 2x2 maximum after each
// (Simonyan 2014, with normalisation), then the global average.
struct PlainSettings {
    std::vector<std::int64_t> widths = {16, 32, 64};
    std::int64_t convolutions = 2;  // of a stage
};
Network plain_backbone(const PlainSettings& settings, const Shape& input);

// A densely connected backbone (Huang 2017): every layer sees the outputs of all layers before it in its
// stage and adds growth channels; between stages a 1x1 convolution halves the channels and a 2x2 mean the
// map.
struct DenselyConnectedSettings {
    std::int64_t stem_width = 16;
    std::int64_t growth = 12;
    std::vector<std::int64_t> layers = {4, 4, 4};  // of each stage
};
Network densely_connected_backbone(const DenselyConnectedSettings& settings, const Shape& input);

// An inverted-residual backbone (Sandler 2018) with squeeze-and-excitation and hard swish (Howard 2019).
struct InvertedStage {
    std::int64_t width = 16;
    std::int64_t blocks = 1;
    std::int64_t stride = 1;  // of the first block
    std::int64_t expansion = 4;
    std::int64_t kernel = 3;
    bool squeeze = true;  // squeeze-and-excitation, to a quarter of the expanded channels
    FunctionKind activation = FunctionKind::hard_swish;
};
struct InvertedResidualSettings {
    std::int64_t stem_width = 16;
    std::int64_t stem_stride = 2;
    std::vector<InvertedStage> stages = {
        {.width = 16, .expansion = 1, .activation = FunctionKind::relu},
        {.width = 24, .blocks = 2, .stride = 2, .squeeze = false, .activation = FunctionKind::relu},
        {.width = 40, .blocks = 2, .stride = 2, .kernel = 5}};
    std::int64_t last_width = 160;  // of the 1x1 convolution before the global average
};
Network inverted_residual_backbone(const InvertedResidualSettings& settings, const Shape& input);

// A vision transformer (Dosovitskiy 2021): patches become tokens of the given width beside a class token,
// with learned positions; blocks of attention and a two-layer perceptron of four times the width, each behind
// a layer normalisation. The feature is the class token.
struct VisionTransformerSettings {
    std::int64_t patch = 8;
    std::int64_t width = 64;
    std::int64_t depth = 4;
    std::int64_t heads = 4;
};
// InputError when the patch does not divide height and width of the image, or the heads the width.
Network vision_transformer_backbone(const VisionTransformerSettings& settings, const Shape& input);

// Any of them, or a list of layers.
using Architecture =
    std::variant<ResidualSettings, PlainSettings, PerceptronSettings, DenselyConnectedSettings,
                 InvertedResidualSettings, VisionTransformerSettings, LayerList>;
// InputError when the image does not fit the architecture, or two layers do not fit together.
Network build_backbone(const Architecture& architecture, const Shape& input);

// What stands between the backbone and the classes: hidden dense layers with an activation, dropout before
// every dense layer.
struct HeadSettings {
    std::vector<std::int64_t> hidden;
    FunctionKind activation = FunctionKind::relu;
    double dropout = 0.0;
};
// The output of the backbone must be a vector; InputError names the layer that gives something else. Nodes
// are called head.*; the last is the dense layer of the classes.
void append_head(Network& backbone, const HeadSettings& settings, std::int64_t classes);

// Replaces all parameters from a node on by random ones: normal with variance 2 / fan_in before a ReLU (He
// 2015), 2 / (fan_in + fan_out) in dense layers on rows of tokens (Glorot 2010) and 1 / fan_in in the last
// dense layer; trained constants normal with deviation 0.02; biases and shifts 0, scales 1, slopes of
// parametric ReLUs 0.25 (He 2015). Keyed by seed and node name.
void initialise(Network& network, std::size_t first_node, std::uint64_t seed);

}  // namespace jevrin::inline v1
