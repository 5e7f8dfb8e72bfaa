#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/network/architecture.hpp"
#include "jevrin/network/inference.hpp"
#include "jevrin/network/model_file.hpp"
#include "jevrin/network/rewrite.hpp"

#include <onnx/onnx_pb.h>

#include <cmath>
#include <cstring>
#include <map>

namespace jevrin {
namespace {

using test::message_of;
using test::outputs_of;
using test::random_tensor;
using test::TemporaryDirectory;
using testing::HasSubstr;

Network small_network() {
    Network network = residual_backbone({.widths = {4, 6}, .blocks = {1}, .stem_stride = 1}, {8, 8, 3});
    append_head(network, {.hidden = {5}, .dropout = 0.3}, 3);
    initialise(network, 0, 1);
    for (Node& node : network.nodes)
        if (std::holds_alternative<BatchNormalisation>(node.op)) {
            node.parameters[1] = random_tensor(node.parameters[1].shape(), 8, 0.3);
            node.parameters[2] = random_tensor(node.parameters[2].shape(), 9, 0.3);
            node.parameters[3].fill(0.7F);
        }
    return network;
}

TEST(Graph, ShapesFollowFromTheLayers) {
    const Network network =
        residual_backbone({.widths = {8, 16}, .blocks = {1}, .stem_stride = 2}, {33, 32, 3});
    const auto shapes = infer_shapes(network);
    EXPECT_EQ(shapes[find_boundary(network, "stem.relu")], (Shape{17, 16, 8}));
    EXPECT_EQ(shapes[find_boundary(network, "stage2.block1.relu2")], (Shape{9, 8, 16}));
    EXPECT_EQ(shapes.back(), (Shape{16}));
    EXPECT_THAT(stage_names(network), testing::ElementsAre("stem", "stage1", "stage2", "pool"));
    EXPECT_EQ(parameter_count(residual_backbone({.widths = {2}, .blocks = {1}}, {4, 4, 1})),
              9 * 2 + 4 + 2 * (9 * 2 * 2 + 4));
    EXPECT_EQ(
        multiplication_count(residual_backbone({.widths = {2}, .blocks = {1}, .stem_stride = 1}, {4, 4, 1})),
        16 * 9 * 2 + 2 * 16 * 9 * 4);
}

TEST(Graph, AClashNamesTheLayerAndBothSides) {
    Network network{{8, 8, 3}, {}};
    const std::size_t x = network.add("image", Input{}, {});
    network.add("first", Convolution{{3, 3}}, {x}, {Tensor({3, 3, 4, 8})});
    EXPECT_THAT(message_of<InputError>([&] { infer_shapes(network); }),
                testing::AllOf(HasSubstr("'first'"), HasSubstr("4 channels"), HasSubstr("gets 3")));
    Network flat{{8, 8, 3}, {}};
    flat.add("classes", Dense{}, {flat.add("image", Input{}, {})}, {Tensor({192, 2})});
    EXPECT_THAT(message_of<InputError>([&] { infer_shapes(flat); }), HasSubstr("add a flatten"));
    Network tiny{{2, 2, 3}, {}};
    tiny.add("wide", Convolution{{5, 5}}, {tiny.add("image", Input{}, {})}, {Tensor({5, 5, 3, 1})});
    EXPECT_THAT(message_of<InputError>([&] { infer_shapes(tiny); }),
                HasSubstr("larger than the padded image 2x2"));
}

TEST(Graph, AnUnknownBoundaryListsTheStages) {
    EXPECT_THAT(
        message_of<InputError>([&] { find_boundary(small_network(), "stagge2"); }),
        testing::AllOf(HasSubstr("did you mean 'stage2'"), HasSubstr("stem, stage1, stage2, pool, head")));
}

TEST(Initialise, WeightsHaveThePublishedDeviationAndDependOnTheSeed) {
    Network network = residual_backbone({.widths = {64}, .blocks = {1}}, {8, 8, 3});
    initialise(network, 0, 3);
    const Tensor& weight = network.nodes[find_boundary(network, "stage1.block1.convolution1")].parameters[0];
    double squares = 0;
    for (const float w : weight.values()) squares += static_cast<double>(w) * w;
    EXPECT_NEAR(std::sqrt(squares / static_cast<double>(weight.size())), std::sqrt(2.0 / (9 * 64)), 1e-3);
    Network again = network;
    initialise(again, 0, 4);
    EXPECT_NE(again.nodes[1].parameters[0].data()[0], network.nodes[1].parameters[0].data()[0]);
    initialise(again, 0, 3);
    EXPECT_EQ(again.nodes[1].parameters[0].data()[0], network.nodes[1].parameters[0].data()[0]);
}

TEST(Rewrite, DividingAndJoiningGivesTheSameBits) {
    const Network network = small_network();
    const Tensor input = random_tensor({3 * 8 * 8 * 3}, 1);
    const std::vector<float> whole = outputs_of(network, 3, input);
    for (const char* boundary : {"stage1", "stage2", "head"}) {
        const Division division = divide(network, find_boundary(network, boundary));
        const std::vector<float> features = outputs_of(division.frozen, 3, input);
        EXPECT_EQ(
            outputs_of(division.trained, 3, Tensor({static_cast<std::int64_t>(features.size())}, features)),
            whole)
            << boundary;
        EXPECT_EQ(outputs_of(join(division.frozen, division.trained), 3, input), whole) << boundary;
    }
}

TEST(Rewrite, ACutThroughABlockIsRefused) {
    const Network network = small_network();
    EXPECT_THAT(message_of<InputError>(
                    [&] { divide(network, find_boundary(network, "stage2.block1.convolution2")); }),
                HasSubstr("2 values cross"));
}

TEST(Rewrite, FoldingKeepsTheFunctionWithFewerSteps) {
    const Network network = small_network();
    const Network folded = fold_for_inference(network);
    EXPECT_LT(folded.nodes.size(), network.nodes.size());
    for (const Node& node : folded.nodes) {
        EXPECT_FALSE(std::holds_alternative<BatchNormalisation>(node.op)) << node.name;
        const auto* sum = std::get_if<Arithmetic>(&node.op);
        EXPECT_TRUE(sum == nullptr || sum->rectified) << node.name;
    }
    // Without its convolution in the same network, normalisation runs as a step of its own: the reference.
    const Tensor input = random_tensor({2 * 8 * 8 * 3}, 1);
    std::vector<float> reference;
    {
        Tensor value = input;
        for (std::size_t cut = 1; cut < 4; ++cut) {
            Network one{cut == 1 ? Shape{8, 8, 3} : Shape{8, 8, 4}, {}};
            Node node = network.nodes[cut];
            node.inputs = {one.add("x", Input{}, {})};
            one.nodes.push_back(node);
            const std::vector<float> out = outputs_of(one, 2, value);
            value = Tensor({static_cast<std::int64_t>(out.size())}, out);
        }
        reference.assign(value.values().begin(), value.values().end());
    }
    Network stem = network;
    stem.nodes.resize(4);
    const std::vector<float> quick = outputs_of(stem, 2, input);
    ASSERT_EQ(quick.size(), reference.size());
    for (std::size_t i = 0; i < quick.size(); ++i) ASSERT_NEAR(quick[i], reference[i], 1e-5);
}

TEST(Inference, AnItemGetsTheSameBitsInEveryBatch) {
    const Network network = small_network();
    const Tensor input = random_tensor({5, 192}, 2);
    const std::vector<float> all = outputs_of(network, 5, input);
    for (std::int64_t n = 0; n < 5; ++n) {
        const std::vector<float> one = outputs_of(
            network, 1, Tensor({192}, input.values().subspan(static_cast<std::size_t>(n) * 192, 192)));
        EXPECT_EQ(std::memcmp(one.data(), all.data() + n * 3, 3 * sizeof(float)), 0);
    }
}

TEST(Softmax, SumsToOneEvenForLargeLogits) {
    const std::vector<float> logits = {1000, 1001, -5000};
    std::vector<float> p(3);
    class_probabilities(1, 3, logits, p);
    EXPECT_NEAR(p[1], 1 / (1 + std::exp(-1.0)), 1e-6);
    EXPECT_NEAR(p[0] + p[1] + p[2], 1.0, 1e-6);
}

// Whether two networks are the same node by node: names, operators, inputs, shapes, weights. Nodes that do
// not depend on each other may stand in another order.
void expect_equal(const Network& a, const Network& b) {
    ASSERT_EQ(a.nodes.size(), b.nodes.size());
    EXPECT_EQ(a.input, b.input);
    const auto input_names = [](const Network& network, const Node& node) {
        std::vector<std::string> names;
        for (const std::size_t input : node.inputs) names.push_back(network.nodes[input].name);
        return names;
    };
    std::map<std::string, std::size_t> places;
    for (std::size_t i = 0; i < a.nodes.size(); ++i) places[a.nodes[i].name] = i;
    const auto a_shapes = infer_shapes(a);
    const auto b_shapes = infer_shapes(b);
    EXPECT_EQ(a.nodes.back().name, b.nodes.back().name);
    for (std::size_t i = 0; i < b.nodes.size(); ++i) {
        const Node& node = b.nodes[i];
        SCOPED_TRACE(node.name);
        ASSERT_EQ(places.count(node.name), 1U);
        const Node& other = a.nodes[places[node.name]];
        EXPECT_EQ(operator_name(other.op), operator_name(node.op));
        EXPECT_EQ(input_names(a, other), input_names(b, node));
        EXPECT_EQ(a_shapes[places[node.name]], b_shapes[i]);
        ASSERT_EQ(other.parameters.size(), node.parameters.size());
        for (std::size_t p = 0; p < node.parameters.size(); ++p) {
            EXPECT_EQ(other.parameters[p].shape(), node.parameters[p].shape());
            EXPECT_EQ(parameter_kind(other.op, p), parameter_kind(node.op, p));
            EXPECT_TRUE(std::ranges::equal(other.parameters[p].values(), node.parameters[p].values()));
        }
    }
}

TEST(ModelFile, WhatIsWrittenReadsBackEqual) {
    const TemporaryDirectory directory;
    const Shape image = {16, 16, 3};
    std::map<std::string, Network> networks = {
        {"residual", residual_backbone({.widths = {4, 6}, .blocks = {1}, .stem_stride = 1}, image)},
        {"pooled stem",
         residual_backbone({.widths = {4}, .blocks = {2}, .stem_kernel = 7, .stem_pool = true}, image)},
        {"bottleneck",
         residual_backbone(
             {.widths = {2, 4}, .blocks = {2, 1}, .block = ResidualBlock::bottleneck, .stem_stride = 1},
             image)},
        {"plain", plain_backbone({.widths = {4, 6}, .convolutions = 1}, image)},
        {"perceptron", perceptron_backbone({.hidden = {6}, .dropout = 0.1}, image)},
        {"densely connected",
         densely_connected_backbone({.stem_width = 4, .growth = 3, .layers = {2, 2}}, image)},
        {"inverted residual", inverted_residual_backbone({}, {64, 64, 3})},
        {"transformer", vision_transformer_backbone({.patch = 4, .width = 8, .depth = 2, .heads = 2}, image)},
    };
    for (auto& [family, network] : networks) {
        SCOPED_TRACE(family);
        append_head(network, {.hidden = {5}, .dropout = 0.3}, 3);
        initialise(network, 0, 1);
        write_model(directory / "m.onnx", {network, {{"jevrin.note", "a \"quoted\"\nline"}}});
        const Model model = read_model(directory / "m.onnx");
        EXPECT_EQ(model.metadata.at("jevrin.note"), "a \"quoted\"\nline");
        expect_equal(model.network, network);
        const Tensor input = random_tensor({2 * element_count(network.input)}, 4);
        EXPECT_EQ(outputs_of(model.network, 2, input), outputs_of(network, 2, input));
    }
}

TEST(ModelFile, EveryTruncationIsRefusedInWords) {
    const TemporaryDirectory directory;
    write_model(directory / "m.onnx", {small_network(), {}});
    const std::string bytes = read_text(directory / "m.onnx");
    for (std::size_t length = 0; length < bytes.size(); length += 1 + bytes.size() / 97) {
        write_file(directory / "cut.onnx", std::string_view(bytes).substr(0, length));
        EXPECT_THAT(message_of<InputError>([&] { read_model(directory / "cut.onnx"); }),
                    HasSubstr("cut.onnx: "))
            << length;
    }
}

TEST(ModelFile, DamagedBytesNeverDoWorseThanAnInputError) {
    const TemporaryDirectory directory;
    write_model(directory / "m.onnx", {small_network(), {}});
    const std::string bytes = read_text(directory / "m.onnx");
    for (std::size_t round = 0; round < 300; ++round) {
        std::string damaged = bytes;
        // The structure is at the beginning of each tensor and the graph: hit single bytes all over.
        damaged[(round * 7919) % damaged.size()] = static_cast<char>(round * 37);
        write_file(directory / "bad.onnx", damaged);
        try {
            infer_shapes(read_model(directory / "bad.onnx").network);
        } catch (const InputError&) {
        }
    }
}

// Reads a model, changes its protobuf, and returns what reading the result says.
std::string message_after(const std::function<void(onnx::ModelProto&)>& change) {
    const TemporaryDirectory directory;
    write_model(directory / "m.onnx", {small_network(), {}});
    onnx::ModelProto proto;
    proto.ParseFromString(read_text(directory / "m.onnx"));
    change(proto);
    write_file(directory / "m.onnx", proto.SerializeAsString());
    return message_of<InputError>([&] { read_model(directory / "m.onnx"); });
}

TEST(ModelFile, HostileGraphsAreRefusedInWords) {
    EXPECT_THAT(message_after([](auto& m) {
                    m.mutable_graph()->mutable_node(1)->set_op_type("Frobnicate");
                    m.mutable_graph()->mutable_node(2)->set_op_type("Einsum");
                }),
                testing::AllOf(HasSubstr("2 of its nodes"), HasSubstr("Frobnicate at 'stem.normalisation'"),
                               HasSubstr("Einsum")));
    EXPECT_THAT(
        message_after([](auto& m) { m.mutable_graph()->mutable_node(1)->set_input(0, "pool.flatten"); }),
        HasSubstr("nothing before it computes"));
    EXPECT_THAT(message_after([](auto& m) { m.mutable_graph()->mutable_initializer(0)->set_dims(0, -4); }),
                HasSubstr("impossible shape"));
    EXPECT_THAT(
        message_after([](auto& m) { m.mutable_graph()->mutable_initializer(0)->set_dims(0, 1 << 19); }),
        HasSubstr("bytes and its shape"));
    EXPECT_THAT(message_after([](auto& m) {
                    std::string raw = m.graph().initializer(0).raw_data();
                    const float nan = std::nanf("");
                    std::memcpy(raw.data(), &nan, sizeof nan);
                    m.mutable_graph()->mutable_initializer(0)->set_raw_data(raw);
                }),
                HasSubstr("not finite"));
    EXPECT_THAT(message_after([](auto& m) {
                    m.mutable_graph()->mutable_initializer(0)->set_data_location(onnx::TensorProto::EXTERNAL);
                }),
                HasSubstr("weights inside"));
    EXPECT_THAT(message_after([](auto& m) { m.mutable_opset_import(0)->set_version(21); }),
                HasSubstr("7 to 17"));
}

TEST(ModelFile, AFullDiskKeepsTheOldModel) {
    const TemporaryDirectory directory;
    write_file(directory / "m.onnx", std::string("old"));
    EXPECT_THROW(write_model(directory.path() / "missing" / "m.onnx", {small_network(), {}}), WorkError);
    EXPECT_EQ(read_text(directory / "m.onnx"), "old");
}

}  // namespace
}  // namespace jevrin
