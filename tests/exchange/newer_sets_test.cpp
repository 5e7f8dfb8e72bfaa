// Operators in the forms of newer sets, and what no open case covers: numbers by hand, or by another
// spelling.
#include "exchange/foreign_graph.hpp"

#include "jevrin/graph/stages.hpp"

#include <cmath>
#include <cstring>
#include <map>
#include <numeric>

namespace jevrin {

using namespace operators;

namespace {

using test::expect_near;
using test::Graph;
using test::outputs_of;
using test::random_tensor;
using testing::AllOf;
using testing::ElementsAre;
using testing::HasSubstr;

Tensor numbers(const Shape& shape, const std::vector<float>& values) {
    return Tensor(shape, values);
}

// What two spellings compute of the same image [2, 4, 3] (height, width, channels).
void expect_alike(const Graph& newer, const Graph& older) {
    const Tensor image = random_tensor({2, 2, 4, 3}, 8);
    expect_near(outputs_of(newer.read(), 2, image), outputs_of(older.read(), 2, image));
}

constexpr const char* image_input = "g (float[N, 3, 2, 4] x) => (float[N, 3, 2, 4] y) ";

Graph on_image(const std::string& nodes, int opset) {
    return Graph(image_input + ("{" + nodes + "}"), opset);
}

TEST(NewerSets, ReductionsTakeTheirAxesAsInput) {
    for (const char* type : {"ReduceMean", "ReduceMax", "ReduceMin", "ReduceL1", "ReduceL2",
                             "ReduceSumSquare", "ReduceLogSumExp"}) {
        SCOPED_TRACE(type);
        Graph newer = on_image(fmt::format("y = {} <keepdims = 1> (x, axes)", type), 18);
        newer.integers("axes", {1, -1});
        expect_alike(newer, on_image(fmt::format("y = {} <axes = [1, -1], keepdims = 1> (x)", type), 13));
    }
    // No axes: all dimensions, or none when so stated.
    expect_alike(on_image("r = ReduceMax <noop_with_empty_axes = 1> (x) y = Relu (r)", 18),
                 on_image("y = Relu (x)", 13));
}

TEST(NewerSets, SplitsByNumberMayEndInASmallerPart) {
    Graph graph("g (float[N, 7] x) => (float[N, 1] y) { a, b, y = Split <axis = 1, num_outputs = 3> (x) }",
                18);
    EXPECT_EQ(outputs_of(graph.read(), 1, numbers({7}, {1, 2, 3, 4, 5, 6, 7})), (std::vector<float>{7}));
    EXPECT_EQ(outputs_of(graph.read({.output = "a"}), 1, numbers({7}, {1, 2, 3, 4, 5, 6, 7})),
              (std::vector<float>{1, 2, 3}));
    Graph wrong("g (float[N, 7] x) => (float[N, 1] y) { a, y = Split <axis = 1> (x) }", 18);
    EXPECT_THAT(wrong.refusal(), HasSubstr("cannot split 7 into 2 equal parts"));
}

TEST(NewerSets, PadsNameTheirAxesAndMayWrap) {
    Graph newer = on_image("y = Pad (x, pads, , axes)", 18);
    newer.integers("pads", {1, 2});
    newer.integers("axes", {-1});
    Graph older = on_image("y = Pad (x, pads)", 13);
    older.integers("pads", {0, 0, 0, 1, 0, 0, 0, 2});
    expect_alike(newer, older);
    Graph wraps("g (float[N, 4] x) => (float[N, 7] y) { y = Pad <mode = \"wrap\"> (x, pads) }", 19);
    wraps.integers("pads", {0, 1, 0, 2});
    EXPECT_EQ(outputs_of(wraps.read(), 1, numbers({4}, {1, 2, 3, 4})),
              (std::vector<float>{4, 1, 2, 3, 4, 1, 2}));
}

TEST(NewerSets, ADimensionOfOneMayBeReversed) {
    Graph graph(
        "g (float[N, 3] x) => (float[N, 3] y) { u = Unsqueeze (x, one) r = Slice (u, last, first, one, "
        "minus) "
        "t = Squeeze (r, one) y = Slice (t, last, first, one, minus) }",
        13);
    graph.integers("one", {1});
    graph.integers("last", {-1});
    graph.integers("first", {-9});
    graph.integers("minus", {-1});
    EXPECT_EQ(outputs_of(graph.read(), 1, numbers({3}, {1, 2, 3})), (std::vector<float>{3, 2, 1}));
}

TEST(NewerSets, ActivationsOfLaterSets) {
    const std::vector<float> x = {-3.0F, -0.5F, 0.0F, 0.7F, 2.0F};
    const auto of = [&](const std::string& node, int opset) {
        return outputs_of(
            Graph("g (float[N, 5] x) => (float[N, 5] y) { y = " + node + " (x) }", opset).read(), 1,
            numbers({5}, x));
    };
    const auto expected = [&](const std::function<double(double)>& function) {
        std::vector<float> values;
        for (const float v : x) values.push_back(static_cast<float>(function(v)));
        return values;
    };
    expect_near(of("Gelu", 20),
                expected([](double v) { return v * (1 + std::erf(v / std::sqrt(2.0))) / 2; }));
    expect_near(of("Gelu <approximate = \"tanh\">", 20), expected([](double v) {
                    return v / 2 * (1 + std::tanh(std::sqrt(2 / M_PI) * (v + 0.044715 * v * v * v)));
                }));
    expect_near(of("Mish", 18), expected([](double v) { return v * std::tanh(std::log1p(std::exp(v))); }));
    expect_near(of("Swish", 24), expected([](double v) { return v / (1 + std::exp(-v)); }));
    expect_near(of("Swish <alpha = 1.7>", 24),
                expected([](double v) { return v / (1 + std::exp(-1.7 * v)); }));
    expect_near(of("Celu <alpha = 1.5>", 12), expected([](double v) {
                    return std::max(0.0, v) + std::min(0.0, 1.5 * std::expm1(v / 1.5));
                }));
    expect_near(of("ThresholdedRelu <alpha = 0.6>", 10),
                expected([](double v) { return v > 0.6 ? v : 0.0; }));
}

TEST(NewerSets, ConstantsAreFlattenedAtAnyAxis) {
    std::vector<float> numbers(24);
    std::iota(numbers.begin(), numbers.end(), 1.0F);
    for (const auto& [axis, shape] : {std::pair(0, Shape{1, 24}), std::pair(1, Shape{2, 12}),
                                      std::pair(-1, Shape{6, 4}), std::pair(3, Shape{24, 1})}) {
        Graph graph(fmt::format("g (float[N, {0}, {1}] x) => (float[N, {0}, {1}] y) {{ "
                                "f = Flatten <axis = {2}> (c) y = Mul (x, f) }}",
                                shape[0], shape[1], axis),
                    13);
        graph.weight("c", {2, 3, 4}, numbers);
        EXPECT_EQ(outputs_of(graph.read(), 1, Tensor(shape, std::vector<float>(24, 1.0F))), numbers);
    }
    Graph beyond("g (float[N, 4] x) => (float[N, 4] y) { f = Flatten <axis = 3> (c) y = Mul (x, f) }", 13);
    beyond.weight("c", random_tensor({2, 2}, 5));
    EXPECT_THAT(beyond.refusal(), HasSubstr("its axis is out of range"));
}

TEST(NewerSets, GroupNormalisationIsWrittenForAnySet) {
    Network network{{2, 3, 4}, {}};
    std::size_t x = network.add("image", Input{}, {});
    network.add("normal", GroupNormalisation{2}, {x}, {random_tensor({4}, 1), random_tensor({4}, 2)});
    const test::TemporaryDirectory directory;
    write_model(directory / "n.onnx", {.network = network});
    const Tensor image = random_tensor({2, 2, 3, 4}, 8);
    expect_near(outputs_of(read_model(directory / "n.onnx").network, 2, image),
                outputs_of(network, 2, image));
    onnx::ModelProto model;
    ASSERT_TRUE(model.ParseFromString(read_text(directory / "n.onnx")));
    std::map<std::string, std::vector<std::int64_t>> shapes;  // that the file states for reshaping
    for (const onnx::TensorProto& one : model.graph().initializer())
        if (one.data_type() == onnx::TensorProto::INT64) {
            std::vector<std::int64_t> numbers(one.raw_data().size() / 8);
            std::memcpy(numbers.data(), one.raw_data().data(), one.raw_data().size());
            shapes[one.name()] =
                numbers.empty() ? std::vector<std::int64_t>(one.int64_data().begin(), one.int64_data().end())
                                : numbers;
        }
    EXPECT_THAT(shapes["normal:groups_shape"], ElementsAre(0, 2, -1));
    EXPECT_THAT(shapes["normal:whole_shape"], ElementsAre(0, 4, 2, 3));
}

TEST(NewerSets, GroupNormalisationHasParametersByGroupThenByChannel) {
    Graph by_group(
        "g (float[N, 4, 2, 2] x) => (float[N, 4, 2, 2] y) { y = GroupNormalization <num_groups = 2> (x, s, "
        "b) }",
        18);
    by_group.weight("s", {2}, std::vector<float>{2, 3});
    by_group.weight("b", {2}, std::vector<float>{1, -1});
    Graph by_channel(
        "g (float[N, 4, 2, 2] x) => (float[N, 4, 2, 2] y) { y = GroupNormalization <num_groups = 2> (x, s, "
        "b) }",
        21);
    by_channel.weight("s", {4}, std::vector<float>{2, 2, 3, 3});
    by_channel.weight("b", {4}, std::vector<float>{1, 1, -1, -1});
    const Tensor image = random_tensor({2, 2, 4}, 4);
    const std::vector<float> got = outputs_of(by_group.read(), 1, image);
    expect_near(got, outputs_of(by_channel.read(), 1, image));
    // The first group by hand: eight numbers of channels 0 and 1.
    double mean = 0.0;
    double square = 0.0;
    for (int p = 0; p < 4; ++p)
        for (int c = 0; c < 2; ++c) {
            mean += image.data()[p * 4 + c] / 8.0;
            square += image.data()[p * 4 + c] * image.data()[p * 4 + c] / 8.0;
        }
    EXPECT_NEAR(got[0], 2 * (image.data()[0] - mean) / std::sqrt(square - mean * mean + 1e-5) + 1, 1e-4);
}

TEST(NewerSets, NormsOfVectorsAndRows) {
    const std::vector<float> x = {3, 4, 0, 0};
    const auto of = [&](const std::string& node, int opset) {
        Graph graph("g (float[N, 2, 2] x) => (float[N, 2, 2] y) { y = " + node + " }", opset);
        graph.weight("s", {2}, std::vector<float>{1, 2});
        return outputs_of(graph.read(), 1, numbers({2, 2}, x));
    };
    expect_near(of("LpNormalization <axis = -1> (x)", 13), {0.6F, 0.8F, 0, 0});
    expect_near(of("LpNormalization <axis = 1, p = 1> (x)", 13), {1, 1, 0, 0});
    const float root = std::sqrt(12.5F + 1e-5F);
    expect_near(of("RMSNormalization (x, s)", 23), {3 / root, 8 / root, 0, 0});
    EXPECT_THAT(
        Graph("g (float[N, 3, 2, 2] x) => (float[N, 3, 2, 2] y) { y = MeanVarianceNormalization (x) }", 13)
            .refusal(),
        HasSubstr("over the batch dimension"));
    Graph each(
        "g (float[N, 1, 1, 2] x) => (float[N, 1, 1, 2] y) { y = MeanVarianceNormalization <axes = [1, 2, 3]> "
        "(x) }",
        13);
    expect_near(outputs_of(each.read(), 1, numbers({1, 2, 1}, {1, 3})), {-1, 1});
}

TEST(NewerSets, NormalisationByBatchOnTokens) {
    Graph graph("g (float[N, 2, 3] x) => (float[N, 2, 3] y) { y = BatchNormalization (x, s, b, m, v) }", 15);
    graph.weight("s", {2}, std::vector<float>{1, 2});
    graph.weight("b", {2}, std::vector<float>{0, 1});
    graph.weight("m", {2}, std::vector<float>{1, 0});
    graph.weight("v", {2}, std::vector<float>{1 - 1e-5F, 4 - 1e-5F});
    expect_near(outputs_of(graph.read(), 1, numbers({2, 3}, {1, 2, 3, 4, 5, 6})), {0, 1, 2, 5, 6, 7});
}

TEST(NewerSets, WindowsOverRowsAndWithDilation) {
    Graph row(
        "g (float[N, 1, 5] x) => (float[N, 1, 3] y) { c = Conv (x, w) y = MaxPool <kernel_shape = [2]> (c) }",
        13);
    row.weight("w", {1, 1, 2}, std::vector<float>{1, -1});
    EXPECT_EQ(outputs_of(row.read(), 1, numbers({1, 5}, {5, 1, 4, 2, 7})), (std::vector<float>{4, 2, 2}));
    Graph dilated(
        "g (float[N, 1, 1, 5] x) => (float[N, 1, 1, 3] y) { y = MaxPool <kernel_shape = [1, 2], dilations = "
        "[1, 2]> (x) }",
        13);
    EXPECT_EQ(outputs_of(dilated.read(), 1, numbers({1, 5, 1}, {5, 1, 4, 2, 7})),
              (std::vector<float>{5, 2, 7}));
    Graph norm(
        "g (float[N, 1, 1, 4] x) => (float[N, 1, 1, 2] y) { y = LpPool <kernel_shape = [1, 2], strides = [1, "
        "2]> (x) }",
        18);
    expect_near(outputs_of(norm.read(), 1, numbers({1, 4, 1}, {3, -4, 0, 2})), {5, 2}, 1e-4);
}

TEST(NewerSets, ResizingByAxesRatioAndWithAFilterAgainstAliasing) {
    const auto resized = [](const std::string& attributes, const std::string& inputs, int opset,
                            const std::vector<float>& x) {
        Graph graph(
            fmt::format("g (float[N, 1, 1, {}] x) => (float[N, 1, 1, 1] y) {{ y = Resize <{}> (x, {}) }}",
                        x.size(), attributes, inputs),
            opset);
        graph.weight("half", {1}, std::vector<float>{0.5F});
        graph.weight("scales", {2}, std::vector<float>{1.0F, 2.0F});
        graph.integers("sizes", {2, 4});
        return outputs_of(graph.read(), 1, numbers({1, std::ssize(x), 1}, x));
    };
    // Axis 3 alone, halved with a triangle of twice the width: each element is (a + 3 b + 3 c + d) / 8.
    expect_near(resized("mode = \"linear\", antialias = 1, axes = [3]", ", half", 18, {8, 0, 0, 0, 16, 0}),
                {(8 * 1 + 8 * 3) / 8.0F, 16 * 1 / 8.0F, 16 * 3 / 8.0F});
    expect_near(resized("mode = \"nearest\", axes = [2, 3]", ", scales", 18, {1, 2}), {1, 1, 2, 2});
    expect_near(resized("mode = \"linear\", axes = [2, 3], keep_aspect_ratio_policy = \"not_larger\"",
                        ", , sizes", 18, {1, 3}),
                {1, 1.5F, 2.5F, 3, 1, 1.5F, 2.5F, 3});
    EXPECT_THAT(test::message_of<InputError>([&] {
                    resized("mode = \"strange\", axes = [3]", ", half", 18, {1, 2});
                }),
                HasSubstr("mode 'strange' is not supported"));
}

TEST(NewerSets, EinsumIsAProductInAnyOrder) {
    const std::string input = "g (float[N, 3, 8] x) => (float[N, 3, 3] y) ";
    Graph spelled(input + "{ k = Transpose <perm = [0, 2, 1]> (x) y = MatMul (x, k) }", 13);
    Graph einsum(input + "{ y = Einsum <equation = \"bid,bjd->bij\"> (x, x) }", 13);
    const Tensor rows = random_tensor({2, 3, 8}, 3);
    expect_near(outputs_of(einsum.read(), 2, rows), outputs_of(spelled.read(), 2, rows));
    // Heads: scores, and values mixed by them.
    const std::string heads = R"({ four = Reshape (x, shape)
        s = Einsum <equation = "bihd,bjhd->bhij"> (four, four)
        m = Einsum <equation = "bhij,bjhd->bihd"> (s, four)
        y = Reshape (m, whole) })";
    const std::string products = R"({ four = Reshape (x, shape)
        q = Transpose <perm = [0, 2, 1, 3]> (four) k = Transpose <perm = [0, 2, 3, 1]> (four)
        s = MatMul (q, k) t = MatMul (s, q) m = Transpose <perm = [0, 2, 1, 3]> (t)
        y = Reshape (m, whole) })";
    Graph by_letters(input + heads, 13);
    Graph by_products(input + products, 13);
    for (Graph* graph : {&by_letters, &by_products}) {
        graph->integers("shape", {0, 3, 2, 4});
        graph->integers("whole", {0, 3, 8});
    }
    expect_near(outputs_of(by_letters.read(), 2, rows), outputs_of(by_products.read(), 2, rows));
    // Weights become a dense layer, whose weights decay as any others'.
    Graph weights(input + "{ y = Einsum <equation = \"btc,oc->bto\"> (x, w) }", 13);
    weights.weight("w", random_tensor({5, 8}, 6));
    const Network network = weights.read();
    EXPECT_TRUE(std::holds_alternative<Dense>(network.nodes.back().op));
    EXPECT_EQ(parameter_count(network), 40);
    EXPECT_THAT(Graph(input + "{ y = Einsum <equation = \"...ij,...jk->...ik\"> (x, x) }", 13).refusal(),
                HasSubstr("is not supported: each operand"));
}

TEST(NewerSets, EinsumThatCannotBeReadSaysWhy) {
    const auto graph = [](const std::string& equation, const std::string& operands) {
        return Graph("g (float[N, 3, 8] x) => (float[N, 3, 8] y) { y = Einsum <equation = \"" + equation +
                         "\"> (" + operands + ") }",
                     13);
    };
    EXPECT_THAT(graph("ij,jk->ik", "x, x").refusal(), HasSubstr("names 2 dimensions and gets 3"));
    EXPECT_THAT(graph("bij->bijk", "x").refusal(), HasSubstr("a dimension that no operand has"));
    EXPECT_THAT(graph("bic,bcd->bid", "x, x").refusal(),
                HasSubstr("'c' is 8 in one operand and 3 in the other"));
    EXPECT_THAT(graph("bid,bjd,bkd->bijk", "x, x, x").refusal(), HasSubstr("1 to 2 are expected"));
    EXPECT_THAT(graph("bij->bi", "x, x").refusal(), HasSubstr("names 1 operand and it has 2"));
    // Without an arrow the result has what stands once, in alphabetical order.
    const Tensor rows = random_tensor({1, 3, 8}, 3);
    const auto turned = outputs_of(graph("bdc", "x").read(), 1, rows);
    for (std::size_t i = 0; i < 24; ++i) EXPECT_EQ(turned[i], rows.values()[i % 3 * 8 + i / 3]);
}

TEST(NewerSets, AttentionIsProductsAndASoftmax) {
    const std::string input = "g (float[N, 3, 8] x) => (float[N, 3, 8] y) ";
    Graph one(input + "{ y = Attention <q_num_heads = 2, kv_num_heads = 2, is_causal = 1> (x, x, x) }", 23);
    Graph many(input + R"({ four = Reshape (x, shape)
        q = Transpose <perm = [0, 2, 1, 3]> (four) k = Transpose <perm = [0, 2, 3, 1]> (four)
        s = MatMul (q, k) h = Mul (s, half) m = Add (h, mask) w = Softmax <axis = -1> (m)
        t = MatMul (w, q) b = Transpose <perm = [0, 2, 1, 3]> (t) y = Reshape (b, whole) })",
               13);
    many.integers("shape", {0, 3, 2, 4});
    many.integers("whole", {0, 3, 8});
    many.weight("half", {}, std::vector<float>{0.5F});
    many.weight("mask", {3, 3}, std::vector<float>{0, -1e9F, -1e9F, 0, 0, -1e9F, 0, 0, 0});
    const Tensor rows = random_tensor({2, 3, 8}, 9);
    expect_near(outputs_of(one.read(), 2, rows), outputs_of(many.read(), 2, rows));
}

TEST(NewerSets, ChoicesByConstantMasks) {
    Graph masked("g (float[N, 4] x) => (float[N, 4] y) { y = Where (mask, fill, x) }", 13);
    Graph both("g (float[N, 4] x) => (float[N, 4] y) { n = Neg (x) y = Where (mask, n, x) }", 13);
    for (Graph* graph : {&masked, &both}) {
        onnx::TensorProto& mask = *graph->model.mutable_graph()->add_initializer();
        mask.set_name("mask");
        mask.set_data_type(onnx::TensorProto::BOOL);
        mask.add_dims(4);
        for (const int value : {0, 1, 1, 0}) mask.add_int32_data(value);
        graph->weight("fill", {}, std::vector<float>{-INFINITY});
    }
    const Tensor x = numbers({4}, {1, 2, 3, 4});
    const float lowest = std::numeric_limits<float>::lowest();
    EXPECT_EQ(outputs_of(masked.read(), 1, x), (std::vector<float>{1, lowest, lowest, 4}));
    EXPECT_EQ(outputs_of(both.read(), 1, x), (std::vector<float>{1, -2, -3, 4}));
}

TEST(NewerSets, BranchesWithAConstantConditionAreRead) {
    const std::string choice = R"(g (float[N, 3, 4] x) => (float[N, 4] y) {
        s = Shape (x) d = Gather <axis = 0> (s, one) c = Equal (d, three)
        y = If (c) <then_branch = yes () => (float[N, 4] a) { m = ReduceMean <axes = [1], keepdims = 0> (x) a = Relu (m) },
                    else_branch = no () => (float[N, 12] b) { b = Flatten (x) }>
    })";
    Graph graph(choice, 13);
    graph.number("one", 1);
    graph.number("three", 3);
    const Tensor x = random_tensor({3, 4}, 2);
    EXPECT_EQ(outputs_of(graph.read(), 1, x).size(), 4U);
    Graph other(choice, 13);
    other.number("one", 1);
    other.number("three", 4);
    EXPECT_EQ(outputs_of(other.read(), 1, x).size(), 12U);
}

// A function of the file, "own.Twice": y = x + alpha * x.
void add_twice(onnx::ModelProto& model, const std::string& inner = "Mul") {
    auto& imported = *model.add_opset_import();
    imported.set_domain("own");
    imported.set_version(1);
    auto& function = *model.add_functions();
    function.set_name("Twice");
    function.set_domain("own");
    function.add_input("a");
    function.add_output("b");
    function.add_attribute("alpha");
    auto& set = *function.add_opset_import();
    set.set_domain("");
    set.set_version(13);
    auto& constant = *function.add_node();
    constant.set_op_type("Constant");
    constant.add_output("k");
    auto& value = *constant.add_attribute();
    value.set_name("value_float");
    value.set_ref_attr_name("alpha");
    value.set_type(onnx::AttributeProto::FLOAT);
    auto& scaled = *function.add_node();
    scaled.set_op_type(inner);
    if (inner == "Twice") scaled.set_domain("own");
    scaled.add_input("a");
    if (inner != "Twice") scaled.add_input("k");
    scaled.add_output("scaled");
    auto& sum = *function.add_node();
    sum.set_op_type("Add");
    sum.add_input("a");
    sum.add_input("scaled");
    sum.add_output("b");
}

TEST(NewerSets, LocalFunctionsBecomeTheirBodies) {
    Graph graph("g (float[N, 3] x) => (float[N, 3] y) { y = Relu (x) }", 17);
    auto& nodes = *graph.model.mutable_graph();
    nodes.clear_node();
    for (const auto& [from, to, name] : {std::tuple("x", "t", "first"), std::tuple("t", "y", "second")}) {
        auto& node = *nodes.add_node();
        node.set_op_type("Twice");
        node.set_domain("own");
        node.set_name(name);
        node.add_input(from);
        node.add_output(to);
        auto& alpha = *node.add_attribute();
        alpha.set_name("alpha");
        alpha.set_type(onnx::AttributeProto::FLOAT);
        alpha.set_f(2.0F);
    }
    Graph recursive = graph;
    add_twice(graph.model);
    const Network network = graph.read();
    EXPECT_EQ(outputs_of(network, 1, numbers({3}, {1, 2, -1})), (std::vector<float>{9, 18, -9}));
    EXPECT_THAT(stage_names(network), ElementsAre("first", "second"));
    add_twice(recursive.model, "Twice");
    EXPECT_THAT(recursive.refusal(), HasSubstr("the function 'Twice' calls itself"));
}

TEST(NewerSets, QuantisedFilesRoundAsTheyDid) {
    Graph graph(R"(g (float[N, 2] x) => (float[N, 2] y) {
        q = QuantizeLinear (x, scale, zero)
        d = DequantizeLinear (q, scale, zero)
        w = DequantizeLinear <axis = 1> (stored, scales, zeros)
        y = MatMul (d, w)
    })",
                13);
    graph.weight("scale", {}, std::vector<float>{0.5F});
    graph.weight("scales", {2}, std::vector<float>{1.0F, 0.25F});
    const auto whole = [&](const std::string& name, int type, const Shape& shape,
                           const std::vector<int>& values) {
        onnx::TensorProto& tensor = *graph.model.mutable_graph()->add_initializer();
        tensor.set_name(name);
        tensor.set_data_type(type);
        for (const std::int64_t size : shape) tensor.add_dims(size);
        for (const int value : values) tensor.add_int32_data(value);
    };
    whole("zero", onnx::TensorProto::UINT8, {}, {128});
    whole("zeros", onnx::TensorProto::INT8, {2}, {0, 4});
    whole("stored", onnx::TensorProto::INT8, {2, 2}, {1, 8, 2, 0});
    // Weights [[1, 1], [2, -1]]; 0.3 is rounded to 0.5, 100 is held at (255 - 128) / 2.
    const Network network = graph.read();
    EXPECT_EQ(outputs_of(network, 1, numbers({2}, {0.3F, 100})), (std::vector<float>{127.5F, -63.0F}));
}

TEST(NewerSets, QuantisedValuesAreHeldWithinTheirType) {
    const auto outputs = [](int type) {
        Graph graph("g (float[N, 2] x) => (float[N, 2] y) { q = QuantizeLinear <output_dtype = " +
                        std::to_string(type) + "> (x, scale) y = DequantizeLinear (q, scale) }",
                    21);
        graph.weight("scale", {}, std::vector<float>{0.5F});
        return outputs_of(graph.read(), 1, numbers({2}, {-1e6F, 1e6F}));
    };
    EXPECT_THAT(outputs(onnx::TensorProto::UINT8), ElementsAre(0, 127.5F));
    EXPECT_THAT(outputs(onnx::TensorProto::INT8), ElementsAre(-64, 63.5F));
    EXPECT_THAT(outputs(onnx::TensorProto::UINT16), ElementsAre(0, 32767.5F));
    EXPECT_THAT(outputs(onnx::TensorProto::INT16), ElementsAre(-16384, 16383.5F));
    EXPECT_THAT(outputs(0), ElementsAre(0, 127.5F));
    EXPECT_THAT(test::message_of<InputError>([&] { outputs(19); }),
                HasSubstr("quantises to the element type 19, which is not supported"));
}

TEST(NewerSets, UpToSet12ASoftmaxIsOfAllDimensionsFromItsAxisOn) {
    const Graph joint = on_image("y = Softmax <axis = 1> (x)", 11);
    Graph spelled = on_image("r = Reshape (x, row) s = Softmax <axis = 1> (r) y = Reshape (s, whole)", 13);
    spelled.integers("row", {0, 24});
    spelled.integers("whole", {0, 3, 2, 4});
    expect_alike(joint, spelled);
}

TEST(NewerSets, OldAndFutureSetsAreReadWhereTheirOperatorsAreKnown) {
    EXPECT_EQ(outputs_of(Graph("g (float[N, 2] x) => (float[N, 2] y) { y = Relu (x) }", 1).read(), 1,
                         numbers({2}, {-1, 2})),
              (std::vector<float>{0, 2}));
    EXPECT_THAT(Graph("g (float[N, 2] x) => (float[N, 2] y) { y = Add (x, x) }", 6).refusal(),
                AllOf(HasSubstr("node 'y' (Add)"), HasSubstr("those from set 7 on are")));
    Graph future("g (float[N, 2] x) => (float[N, 2] y) { y = Softmax <axis = -1> (x) }", 40);
    write_file(future.directory() / "future.onnx", future.model.SerializeAsString());
    EXPECT_THAT(read_model(future.directory() / "future.onnx").notes,
                ElementsAre(HasSubstr("operator set 40")));
    EXPECT_THAT(Graph("g (float[N, 2] x) => (float[N, 2] y) { y = Softmax <axis = -1, sharp = 2> (x) }", 40)
                    .refusal(),
                AllOf(HasSubstr("attribute 'sharp' is not known"), HasSubstr("24")));
}

}  // namespace
}  // namespace jevrin
