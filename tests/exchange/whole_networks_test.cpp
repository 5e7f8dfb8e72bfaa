// What is read of a whole network: the output that classifies, what trains, and where features are.
#include "exchange/foreign_graph.hpp"

#include "jevrin/graph/feature_place.hpp"

#include <cstring>

namespace jevrin {

using namespace operators;

namespace {

using test::Graph;
using test::outputs_of;
using test::random_tensor;
using testing::AllOf;
using testing::HasSubstr;

TEST(WholeNetworks, TheOutputThatClassifiesIsFound) {
    const std::string nodes = R"({
        maps = Conv (x, kernel) pooled = GlobalAveragePool (maps) flat = Flatten (pooled)
        aux = Gemm (flat, w1) deep = Relu (flat) logits = Gemm (deep, w2) p = Softmax <axis = -1> (logits)
    })";
    const auto with = [&](const std::string& outputs) {
        Graph graph("g (float[N, 3, 4, 4] x) => (" + outputs + ") " + nodes, 13);
        graph.weight("kernel", random_tensor({6, 3, 1, 1}, 1));
        graph.weight("w1", random_tensor({6, 5}, 2));
        graph.weight("w2", random_tensor({6, 4}, 3));
        return graph;
    };
    EXPECT_EQ(infer_shapes(with("float[N, 6] flat, float[N, 4] p, float[N, 4] logits").read()).back(),
              (Shape{4}));
    EXPECT_EQ(infer_shapes(with("float[N, 5] aux, float[N, 4] logits").read()).back(), (Shape{4}));
    EXPECT_THAT(with("float[N, 6] flat, float[N, 6] deep").refusal(),
                AllOf(HasSubstr("2 outputs ('flat', 'deep')"), HasSubstr("'features'")));
}

TEST(WholeNetworks, WhatLiesBehindTheLastUsablePlaceIsSaidSo) {
    Graph graph(R"(g (float[N, 3, 4, 4] x) => (float[N, 2] y) {
        maps = Conv (x, kernel) pooled = GlobalAveragePool (maps) flat = Flatten (pooled)
        y = TopK (flat, k)
    })",
                13);
    graph.weight("kernel", random_tensor({6, 3, 1, 1}, 1));
    graph.integers("k", {2});
    EXPECT_THAT(graph.refusal(), AllOf(HasSubstr("TopK at 'y'"), HasSubstr("lie behind 'flat'")));
    EXPECT_EQ(infer_shapes(graph.read({.output = "flat"})).back(), (Shape{6}));
}

TEST(WholeNetworks, WeightsThatSeveralNodesReadAreOneParameter) {
    Graph graph(
        "g (float[N, 2, 3] x) => (float[N, 2, 3] y) { a = Mul (x, s) b = Add (a, t) c = Mul (b, s) "
        "d = Transpose <perm = [0, 2, 1]> (c) e = Add (d, turned) y = Transpose <perm = [0, 2, 1]> (e) }",
        13);
    graph.weight("s", {2, 3}, std::vector<float>{1, 2, 3, 4, 5, 6});
    graph.weight("t", {3}, std::vector<float>{1, 2, 3});
    graph.weight("turned", {3, 2}, std::vector<float>{1, 4, 2, 5, 3, 6});
    const Network network = graph.read();
    EXPECT_EQ(parameter_count(network), 6 + 3 + 6);
    const std::vector<float> x = {1, 1, 1, 1, 1, 1};
    EXPECT_EQ(outputs_of(network, 1, Tensor({2, 3}, x)), (std::vector<float>{3, 10, 21, 24, 40, 60}));
}

TEST(WholeNetworks, WhatTrainsIsWhatAreWeights) {
    // A constant node trains as an initializer does; masks, and what scales the image, do not.
    Graph graph(
        "g (float[N, 3, 4, 4] x) => (float[N, 6] y) { c = Sub (x, mean) maps = Conv (c, kernel) "
        "p = GlobalAveragePool (maps) f = Flatten (p) g1 = Mul (f, gamma) y = Add (g1, mask) }",
        13);
    graph.weight("mean", {1, 3, 1, 1}, std::vector<float>{0.4F, 0.5F, 0.6F});
    graph.weight("kernel", random_tensor({6, 3, 1, 1}, 1));
    graph.weight("gamma", random_tensor({6}, 2));
    graph.weight("mask", {6}, std::vector<float>{0, -100, 0, 0, -100, 0});
    onnx::GraphProto& stored = *graph.model.mutable_graph();
    auto& constant = *stored.mutable_node()->Add();
    constant.set_op_type("Constant");
    constant.add_output("gamma");
    auto& value = *constant.add_attribute();
    value.set_name("value");
    value.set_type(onnx::AttributeProto::TENSOR);
    *value.mutable_t() = stored.initializer(2);
    stored.mutable_initializer()->DeleteSubrange(2, 1);
    for (int i = stored.node_size() - 1; i > 0; --i) stored.mutable_node()->SwapElements(i, i - 1);
    const Network network = graph.read();
    EXPECT_EQ(parameter_count(network), 18 + 6);
    // And it stays so in the files we write.
    write_model(graph.directory() / "again.onnx", {network, {}});
    EXPECT_EQ(parameter_count(read_model(graph.directory() / "again.onnx").network), 18 + 6);
}

TEST(WholeNetworks, FeaturesOfSeveralShapesOfEnds) {
    const auto place_of = [](const std::string& nodes) {
        Graph graph("g (float[N, 3, 4, 4] x) => (float[N, 5] y) { maps = Conv (x, kernel) " + nodes + " }",
                    13);
        graph.weight("kernel", random_tensor({6, 3, 1, 1}, 1));
        graph.weight("classes", random_tensor({5, 6, 1, 1}, 2));
        graph.weight("w1", random_tensor({6, 5}, 3));
        graph.weight("w2", random_tensor({6, 5}, 4));
        const Network network = graph.read();
        const FeaturePlace place = find_features(network);
        return std::pair(network.nodes[place.node].name, place);
    };
    // A convolution of a 1x1 map is a dense layer.
    EXPECT_EQ(place_of("p = GlobalAveragePool (maps) c = Conv (p, classes) y = Flatten (c)").first, "p");
    // Pooled scores are a classifier's when a softmax follows, and may be otherwise.
    const std::string pooled = "c = Conv (maps, classes) p = GlobalAveragePool (c) f = Flatten (p) ";
    EXPECT_EQ(place_of(pooled + "y = Softmax <axis = -1> (f)").first, "maps");
    const auto [node, place] = place_of(pooled + "y = Identity (f)");
    EXPECT_EQ(place.head, 0U);
    EXPECT_THAT(place.unusual, HasSubstr("'c' may be a classifier"));
    // Two heads that are joined.
    const auto [joined, two] = place_of(
        "p = GlobalAveragePool (maps) f = Flatten (p) a = Gemm (f, w1) r = Relu (f) b = Gemm (r, w2) y = Add "
        "(a, b)");
    EXPECT_EQ(joined, "f");
    EXPECT_THAT(two.unusual, HasSubstr("several classifiers"));
    // Dense layers inside a gate are none.
    EXPECT_EQ(
        place_of(
            "p = GlobalAveragePool (maps) f = Flatten (p) a = Gemm (f, gate) s = Sigmoid (f) y = Mul (s, f)")
            .second.head,
        0U);
}

}  // namespace
}  // namespace jevrin
