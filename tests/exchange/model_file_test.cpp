// Model files: what is written reads back equal, and what is damaged or hostile is refused.
#include "jevrin/exchange/model_file.hpp"

#include "graph/small_network.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/execution/inference.hpp"

#include <onnx/onnx_pb.h>

#include <cmath>
#include <cstring>
#include <map>

namespace jevrin {
namespace {

using test::message_of;
using test::outputs_of;
using test::random_tensor;
using test::small_network;
using test::TemporaryDirectory;
using testing::HasSubstr;

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
    proto.clear_metadata_props();  // the hash of the content
    change(proto);
    write_file(directory / "m.onnx", proto.SerializeAsString());
    return message_of<InputError>([&] { read_model(directory / "m.onnx"); });
}

TEST(ModelFile, HostileGraphsAreRefusedInWords) {
    EXPECT_THAT(message_after([](auto& m) {
                    m.mutable_graph()->mutable_node(1)->set_op_type("Frobnicate");
                    m.mutable_graph()->mutable_node(2)->set_op_type("NonZero");
                }),
                testing::AllOf(HasSubstr("2 of its nodes"), HasSubstr("Frobnicate at 'stem.normalisation'"),
                               HasSubstr("NonZero")));
    EXPECT_THAT(
        message_after([](auto& m) { m.mutable_graph()->mutable_node(1)->set_input(0, "pool.flatten"); }),
        HasSubstr("no earlier node computes"));
    EXPECT_THAT(message_after([](auto& m) { m.mutable_graph()->mutable_initializer(0)->set_dims(0, -4); }),
                HasSubstr("invalid shape"));
    EXPECT_THAT(
        message_after([](auto& m) { m.mutable_graph()->mutable_initializer(0)->set_dims(0, 1 << 19); }),
        HasSubstr("bytes and its shape"));
    EXPECT_THAT(message_after([](auto& m) {
                    std::string raw = m.graph().initializer(0).raw_data();
                    const float nan = std::nanf("");
                    std::memcpy(raw.data(), &nan, sizeof nan);
                    m.mutable_graph()->mutable_initializer(0)->set_raw_data(raw);
                }),
                HasSubstr("NaN or infinite"));
    EXPECT_THAT(message_after([](auto& m) {
                    m.mutable_graph()->mutable_initializer(0)->set_data_location(onnx::TensorProto::EXTERNAL);
                }),
                HasSubstr("weights inside"));
    EXPECT_THAT(message_after([](auto& m) { m.mutable_opset_import(0)->set_version(3); }),
                HasSubstr("in training mode"));
}

TEST(ModelFile, AFullDiskKeepsTheOldModel) {
    const TemporaryDirectory directory;
    write_file(directory / "m.onnx", std::string("old"));
    EXPECT_THROW(write_model(directory.path() / "missing" / "m.onnx", {small_network(), {}}), WorkError);
    EXPECT_EQ(read_text(directory / "m.onnx"), "old");
}

}  // namespace
}  // namespace jevrin
