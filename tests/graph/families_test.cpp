// The families of networks: their stages, shapes and sizes, and what starts how.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/descriptions.hpp"
#include "jevrin/graph/rewriting.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

#include <cmath>

namespace jevrin {

using namespace operators;

namespace {

using testing::ElementsAre;
using testing::HasSubstr;

const Node& node_called(const Network& network, const std::string& name) {
    for (const Node& node : network.nodes)
        if (node.name == name) return node;
    throw std::runtime_error("no node " + name);
}

Shape shape_of(const Network& network, const std::string& name) {
    return infer_shapes(network)[find_boundary(network, name)];
}

TEST(Families, APlainNetworkHalvesTheMapAfterEachStage) {
    const Network network = plain_backbone({.widths = {8, 20}, .convolutions = 2}, {33, 20, 3});
    EXPECT_THAT(stage_names(network), ElementsAre("stage1", "stage2", "pool"));
    EXPECT_EQ(shape_of(network, "stage1.pool"), (Shape{16, 10, 8}));
    EXPECT_EQ(shape_of(network, "stage2.pool"), (Shape{8, 5, 20}));
    EXPECT_EQ(infer_shapes(network).back(), (Shape{20}));
    // Weights 9 * in * out, and a scale and shift for each channel.
    EXPECT_EQ(parameter_count(network), 9 * (3 * 8 + 8 * 8 + 8 * 20 + 20 * 20) + 2 * (8 + 8 + 20 + 20));
}

TEST(Families, OneNumberOfBlocksStandsForAllStages) {
    EXPECT_EQ(complete_json(ResidualSettings{.blocks = {2}}).at("blocks"), 2);
    EXPECT_EQ(complete_json(ResidualSettings{.blocks = {2, 3}}).at("blocks"), Json({2, 3}));
}

TEST(Families, ADenselyConnectedNetworkGrowsByItsGrowth) {
    const Network network =
        densely_connected_backbone({.stem_width = 16, .growth = 12, .layers = {2, 3}}, {16, 16, 3});
    EXPECT_EQ(shape_of(network, "stage1.layer2.join"), (Shape{16, 16, 40}));
    EXPECT_EQ(shape_of(network, "stage2.transition.average"), (Shape{8, 8, 20}));
    EXPECT_EQ(shape_of(network, "stage2.layer3.join"), (Shape{8, 8, 56}));
    EXPECT_EQ(infer_shapes(network).back(), (Shape{56}));
}

TEST(Families, AnInvertedResidualNetworkExpandsWeighsAndProjects) {
    const Network network = inverted_residual_backbone({}, {64, 64, 3});
    EXPECT_THAT(stage_names(network), ElementsAre("stem", "stage1", "stage2", "stage3", "last", "pool"));
    EXPECT_EQ(shape_of(network, "stage1.block1.project.normalisation"), (Shape{32, 32, 16}));
    EXPECT_EQ(shape_of(network, "stage2.block1.expand.activation"), (Shape{32, 32, 64}));
    EXPECT_EQ(shape_of(network, "stage3.block2.sum"), (Shape{8, 8, 40}));
    const Node& depthwise = node_called(network, "stage3.block2.depthwise.convolution");
    EXPECT_EQ(std::get<Convolution>(depthwise.op).groups, 160);
    EXPECT_EQ(depthwise.parameters[0].shape(), (Shape{5, 5, 1, 160}));
    EXPECT_EQ(shape_of(network, "stage3.block2.squeeze.reduce"), (Shape{1, 1, 40}));
    // A depthwise convolution multiplies kernel by kernel for each channel, no more.
    const std::size_t at = find_boundary(network, "stage3.block2.depthwise.convolution");
    EXPECT_EQ(multiplication_count(network, at) - multiplication_count(network, at + 1), 8 * 8 * 25 * 160);
}

TEST(Families, AVisionTransformerMakesTokensOfPatches) {
    const Network network =
        vision_transformer_backbone({.patch = 8, .width = 32, .depth = 3, .heads = 4}, {32, 48, 3});
    EXPECT_EQ(shape_of(network, "embedding.sum"), (Shape{25, 32}));
    EXPECT_EQ(shape_of(network, "block2.attention.scores"), (Shape{4, 25, 25}));
    EXPECT_EQ(shape_of(network, "block3.gelu"), (Shape{25, 128}));
    EXPECT_EQ(infer_shapes(network).back(), (Shape{32}));
    // Each block: projections 3 w^2 + 3 w, output w^2 + w, perceptron 8 w^2 + 5 w, two normalisations 4 w.
    const std::int64_t w = 32;
    const std::int64_t block = 12 * w * w + 13 * w;
    EXPECT_EQ(parameter_count(network), 3 * block + (8 * 8 * 3 * w + w) + w + 25 * w + 2 * w);
    // Queries, keys and values are the thirds of one projection.
    for (const auto& [role, begin] : {std::pair("query", 0), std::pair("key", 32), std::pair("value", 64)}) {
        const auto& slice =
            std::get<Slice>(node_called(network, fmt::format("block2.attention.{}", role)).op);
        ASSERT_EQ(slice.stretches.size(), 2U);
        EXPECT_EQ(slice.stretches[1].start, begin) << role;
        EXPECT_EQ(slice.stretches[1].count, 32) << role;
    }
    // Scores and mix multiply tokens by tokens by width each.
    const std::size_t scores = find_boundary(network, "block1.attention.scores");
    EXPECT_EQ(multiplication_count(network, scores) - multiplication_count(network, scores + 1), 25 * 25 * w);
}

TEST(Families, AResidualStemMayBeLargeAndPooled) {
    const Network network = residual_backbone(
        {.widths = {64}, .blocks = {1}, .stem_kernel = 7, .stem_pool = true}, {224, 224, 3});
    EXPECT_EQ(shape_of(network, "stem.convolution"), (Shape{112, 112, 64}));
    EXPECT_EQ(shape_of(network, "stem.pool"), (Shape{56, 56, 64}));
}

TEST(Initialise, GivesEveryParameterItsPublishedStart) {
    Network network = vision_transformer_backbone({.patch = 8, .width = 64, .depth = 1}, {64, 64, 3});
    const std::size_t x = network.nodes.size() - 1;
    network.add("slopes", ParametricRelu{}, {x}, {Tensor({64})});
    append_head(network, {}, 3);
    initialise(network, 0, 5);
    const auto deviation = [](const Tensor& t) {
        double squares = 0;
        for (const float v : t.values()) squares += static_cast<double>(v) * static_cast<double>(v);
        return std::sqrt(squares / static_cast<double>(t.size()));
    };
    EXPECT_NEAR(deviation(node_called(network, "embedding.positions").parameters[0]), 0.02, 0.002);
    EXPECT_NEAR(deviation(node_called(network, "block1.dense1").parameters[0]), std::sqrt(2.0 / (64 + 256)),
                0.005);
    EXPECT_NEAR(deviation(node_called(network, "head.classes").parameters[0]), std::sqrt(1.0 / 64), 0.02);
    EXPECT_EQ(node_called(network, "block1.normalisation1").parameters[0].values()[7], 1.0F);
    EXPECT_EQ(node_called(network, "block1.normalisation1").parameters[1].values()[7], 0.0F);
    EXPECT_EQ(node_called(network, "slopes").parameters[0].values()[0], 0.25F);
    // What does not train is part of the definition and stays.
    EXPECT_FLOAT_EQ(node_called(network, "block1.attention.scale").parameters[0].values()[0], 0.25F);
}

// A network of one operator on an image [4, 6, 8].
Network network_of(const Operator& op, std::vector<Tensor> parameters = {}) {
    Network network{{4, 6, 8}, {}};
    const std::size_t image = network.add("image", Input{}, {});
    const bool two = std::holds_alternative<Arithmetic>(op) || std::holds_alternative<MatrixProduct>(op) ||
                     std::holds_alternative<Concatenate>(op);
    std::vector<std::size_t> inputs = {image};
    if (two) inputs.push_back(network.add("other", Constant{}, {}, {Tensor({3, 8})}));
    network.add("wrong", op, inputs, std::move(parameters));
    return network;
}

std::string refusal(const Operator& op, std::vector<Tensor> parameters = {}) {
    const Network network = network_of(op, std::move(parameters));
    return test::message_of<InputError>([&] { infer_shapes(network); });
}

TEST(Shapes, EveryClashNamesTheLayerAndBothSides) {
    EXPECT_THAT(refusal(Convolution{{}, 3}, {Tensor({1, 1, 2, 8})}),
                HasSubstr("layer 'wrong' (convolution): 8 output channels are not divisible by 3 groups"));
    EXPECT_THAT(refusal(Convolution{{}, 2}, {Tensor({1, 1, 3, 8})}),
                HasSubstr("its weights need 6 channels and it gets 8"));
    EXPECT_THAT(refusal(Convolution{{.kernel_height = 3, .dilation_height = 3}}, {Tensor({3, 1, 8, 8})}),
                HasSubstr("its 7x1 window is larger than the padded image 4x6"));
    EXPECT_THAT(refusal(AveragePooling{{.kernel_height = 2, .dilation_height = 2}}), HasSubstr("dilation"));
    EXPECT_THAT(refusal(LayerNormalisation{}, {Tensor({6}), Tensor({6})}),
                HasSubstr("has parameters of 6 and gets 4x6x8"));
    EXPECT_THAT(refusal(GroupNormalisation{3}, {Tensor({8}), Tensor({8})}),
                HasSubstr("8 channels are not divisible by 3 groups"));
    EXPECT_THAT(refusal(ParametricRelu{}, {Tensor({5})}), HasSubstr("has 5 slopes and gets 8 channels"));
    EXPECT_THAT(refusal(Reduction{ReductionKind::mean, {3}}), HasSubstr("operates along dimension 3"));
    EXPECT_THAT(refusal(Softmax{-1}), HasSubstr("operates along dimension -1"));
    EXPECT_THAT(refusal(Arithmetic{}), HasSubstr("its inputs 4x6x8 and 3x8 cannot be broadcast together"));
    EXPECT_THAT(refusal(MatrixProduct{}), HasSubstr("cannot multiply 4x6x8 by 3x8"));
    EXPECT_THAT(refusal(Concatenate{0}), HasSubstr("cannot concatenate 4x6x8 and 3x8 along dimension 0"));
    EXPECT_THAT(refusal(Slice{{{0, 1, 4}, {2, 2, 3}, {0, 1, 8}}}),
                HasSubstr("slices 2 to 6 of dimension 1, which has 6"));
    EXPECT_THAT(refusal(Slice{{{0, 1, 4}}}), HasSubstr("needs 1 dimension and gets 4x6x8"));
    EXPECT_THAT(refusal(Padding{{4, 0, 0}, {0, 0, 0}, PaddingKind::reflect}),
                HasSubstr("pads dimension 0 of 4 by 4 and 0"));
    EXPECT_THAT(refusal(Padding{{1, 1}, {1, 1, 1}}), HasSubstr("needs 2 dimensions and gets 4x6x8"));
    EXPECT_THAT(refusal(Padding{{1, 1, 1}, {1, 1}}), HasSubstr("needs 2 dimensions and gets 4x6x8"));
    EXPECT_THAT(refusal(Transpose{{0, 0, 1}}), HasSubstr("must name each dimension once"));
    EXPECT_THAT(refusal(Reshape{{5, 5}}), HasSubstr("cannot reshape 4x6x8 to 5x5"));
    EXPECT_THAT(refusal(Gather{1, {0, 6}}), HasSubstr("gathers index 6 of dimension 1, which has 6"));
}

TEST(Shapes, APoolMayBePaddedByLessThanItsWindow) {
    // Two pixels high, three wide; and, dilated, five wide.
    for (const std::int64_t dilation : {1, 2}) {
        const std::int64_t wide = dilation * 2 + 1;
        const Window window{.kernel_height = 2, .kernel_width = 3, .dilation_width = dilation};
        for (const auto& [side, most] : {std::pair(&Window::pad_top, std::int64_t{1}),
                                         {&Window::pad_bottom, 1},
                                         {&Window::pad_left, wide - 1},
                                         {&Window::pad_right, wide - 1}}) {
            Window padded = window;
            padded.*side = most;
            EXPECT_NO_THROW(infer_shapes(network_of(MaxPooling{padded}))) << dilation << " " << most;
            padded.*side = most + 1;
            EXPECT_THAT(refusal(MaxPooling{padded}), HasSubstr("its padding is as large as its window"));
        }
    }
}

TEST(Folding, AnyActivationMeltsIntoTheConvolutionBeforeIt) {
    const Network network = inverted_residual_backbone({}, {32, 32, 3});
    const Network folded = rewrite(network, RewritingStage::before_inference);
    std::size_t convolutions = 0;
    std::size_t joined = 0;
    for (const Node& node : folded.nodes) {
        EXPECT_FALSE(std::holds_alternative<BatchNormalisation>(node.op)) << node.name;
        EXPECT_FALSE(std::holds_alternative<Activation>(node.op)) << node.name;
        convolutions += std::holds_alternative<Convolution>(node.op) ? 1 : 0;
        if (const auto* op = std::get_if<SeparableConvolution>(&node.op)) {
            ++joined;
            convolutions += op->expands ? 2 : 1;
            convolutions += op->projects ? 1 : 0;
        }
    }
    EXPECT_LT(folded.nodes.size(), network.nodes.size() / 2 + 5);
    EXPECT_EQ(convolutions, 22U);
    EXPECT_GE(joined, 3U);
}

}  // namespace
}  // namespace jevrin
