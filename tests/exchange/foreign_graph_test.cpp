// Graphs as other programs export them: their arithmetic with shapes, their layouts, their spelled-out
// operators.
#include "exchange/foreign_graph.hpp"

#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/cut.hpp"

#include <cmath>
#include <map>

namespace jevrin {

using namespace operators;

namespace {

using test::expect_near;
using test::Graph;
using test::outputs_of;
using test::random_tensor;
using testing::AllOf;
using testing::HasSubstr;

std::map<std::string, int> operator_counts(const Network& network) {
    std::map<std::string, int> counts;
    for (const Node& node : network.nodes) ++counts[operator_name(node.op)];
    return counts;
}

Network small_transformer() {
    Network network =
        vision_transformer_backbone({.patch = 4, .width = 8, .depth = 1, .heads = 2}, {8, 12, 3});
    append_head(network, {}, 5);
    initialise(network, 0, 3);
    std::uint64_t seed = 70;
    for (Node& node : network.nodes)
        for (Tensor& parameter : node.parameters)
            if (parameter.size() > 1) parameter = random_tensor(parameter.shape(), ++seed, 0.4);
    return network;
}

// The weights of small_transformer() under the names of the texts below.
void give_transformer_weights(Graph& graph, const Network& network) {
    for (const Node& node : network.nodes)
        for (std::size_t p = 0; p < node.parameters.size(); ++p) {
            const Tensor& tensor = node.parameters[p];
            const Shape& s = tensor.shape();
            std::string name = fmt::format("{}_{}", node.name, p);
            std::replace(name.begin(), name.end(), '.', '_');
            if (std::holds_alternative<Convolution>(node.op) && p == 0) {
                Tensor first({s[3], s[2], s[0], s[1]});
                for (std::int64_t o = 0; o < s[3]; ++o)
                    for (std::int64_t i = 0; i < s[2]; ++i)
                        for (std::int64_t t = 0; t < s[0] * s[1]; ++t)
                            first.data()[(o * s[2] + i) * s[0] * s[1] + t] =
                                tensor.data()[(t * s[2] + i) * s[3] + o];
                graph.weight(name, first);
            } else if (node.name == "embedding.class" || node.name == "embedding.positions") {
                graph.weight(name, {1, s[0], s[1]}, tensor.values());
            } else {
                graph.weight(name, tensor);
            }
        }
    graph.weight("eps", {}, std::vector<float>{1e-5F});
    graph.weight("two", {}, std::vector<float>{2.0F});
    graph.weight("one", {}, std::vector<float>{1.0F});
    graph.weight("half", {}, std::vector<float>{0.5F});
    graph.weight("root_two", {}, std::vector<float>{std::sqrt(2.0F)});
    graph.weight("scale", {}, std::vector<float>{0.5F});
    graph.number("n0", 0);
    graph.number("n1", 1);
    graph.number("n2", 2);
    graph.integers("l0", {0});
    graph.integers("l1", {1});
    graph.integers("minus", {-1});
    graph.integers("heads", {2});
    graph.integers("width", {8});
    graph.integers("depth", {4});
    graph.integers("width_triple", {8, 8, 8});
}

// Patches, class token by expanding to the batch, normalisation and GELU decomposed, heads by shapes that
// are computed from shapes.
const char* const patches_and_token = R"(
    maps = Conv <kernel_shape = [4, 4], strides = [4, 4]> (x, embedding_patches_0, embedding_patches_1)
    maps_shape = Shape (maps)
    b = Gather <axis = 0> (maps_shape, n0)
    b1 = Unsqueeze (b, l0)
    row_shape = Concat <axis = 0> (b1, width, minus)
    rows = Reshape (maps, row_shape)
    tokens = Transpose <perm = [0, 2, 1]> (rows)
    token_shape = Concat <axis = 0> (b1, minus, minus)
    ones = ConstantOfShape (three)
    class_shape = Where (is_open, ones_list, token_shape)
    class = Expand (embedding_class_0, class_shape)
    joined = Concat <axis = 1> (class, tokens)
    e = Add (joined, embedding_positions_0)
    m1 = ReduceMean <axes = [-1], keepdims = 1> (e)
    d1 = Sub (e, m1)
    q1 = Pow (d1, two)
    v1 = ReduceMean <axes = [-1], keepdims = 1> (q1)
    w1 = Add (v1, eps)
    s1 = Sqrt (w1)
    h1 = Div (d1, s1)
    a1 = Mul (h1, block1_normalisation1_0)
    normal1 = Add (a1, block1_normalisation1_1)
)";
const char* const perceptron_and_head = R"(
    sum1 = Add (attended, e)
    m2 = ReduceMean <axes = [-1], keepdims = 1> (sum1)
    d2 = Sub (sum1, m2)
    q2 = Pow (d2, two)
    v2 = ReduceMean <axes = [-1], keepdims = 1> (q2)
    w2 = Add (v2, eps)
    s2 = Sqrt (w2)
    h2 = Div (d2, s2)
    a2 = Mul (h2, block1_normalisation2_0)
    normal2 = Add (a2, block1_normalisation2_1)
    wide = MatMul (normal2, block1_dense1_0)
    wider = Add (block1_dense1_1, wide)
    inner = Div (wider, root_two)
    error = Erf (inner)
    shifted = Add (error, one)
    gated = Mul (wider, shifted)
    active = Mul (gated, half)
    narrow = MatMul (active, block1_dense2_0)
    narrower = Add (block1_dense2_1, narrow)
    sum2 = Add (sum1, narrower)
    m3 = ReduceMean <axes = [-1], keepdims = 1> (sum2)
    d3 = Sub (sum2, m3)
    q3 = Pow (d3, two)
    v3 = ReduceMean <axes = [-1], keepdims = 1> (q3)
    w3 = Add (v3, eps)
    s3 = Sqrt (w3)
    h3 = Div (d3, s3)
    a3 = Mul (h3, feature_normalisation_0)
    normal3 = Add (a3, feature_normalisation_1)
    token = Gather <axis = 1> (normal3, n0)
    y = Gemm (token, head_classes_0, head_classes_1)
)";

// Attention as it is written with the batch first.
const char* const attention_batch_first = R"(
    all = MatMul (normal1, block1_attention_projections_0)
    biased = Add (block1_attention_projections_1, all)
    q, k, v = Split <axis = 2> (biased, width_triple)
    s = Shape (q)
    bb = Slice (s, l0, l1)
    tt = Gather <axis = 0> (s, n1)
    t1 = Unsqueeze (tt, l0)
    full = Gather <axis = 0> (s, n2)
    each = Div (full, heads)
    head_shape = Concat <axis = 0> (bb, t1, heads, each)
    q4 = Reshape (q, head_shape)
    k4 = Reshape (k, head_shape)
    v4 = Reshape (v, head_shape)
    qh = Transpose <perm = [0, 2, 1, 3]> (q4)
    kh = Transpose <perm = [0, 2, 3, 1]> (k4)
    vh = Transpose <perm = [0, 2, 1, 3]> (v4)
    scores = MatMul (qh, kh)
    scaled = Mul (scores, scale)
    weights = Softmax <axis = -1> (scaled)
    mixed = MatMul (weights, vh)
    back = Transpose <perm = [0, 2, 1, 3]> (mixed)
    back_shape = Concat <axis = 0> (bb, t1, width)
    flat = Reshape (back, back_shape)
    out = MatMul (flat, block1_attention_output_0)
    attended = Add (block1_attention_output_1, out)
)";

// The same with tokens first, and batch and heads in one dimension.
const char* const attention_tokens_first = R"(
    turned = Transpose <perm = [1, 0, 2]> (normal1)
    all = MatMul (turned, block1_attention_projections_0)
    biased = Add (block1_attention_projections_1, all)
    q, k, v = Split <axis = 2> (biased, width_triple)
    s = Shape (q)
    tt = Slice (s, l0, l1)
    bb = Gather <axis = 0> (s, n1)
    many = Mul (bb, heads)
    head_shape = Concat <axis = 0> (tt, many, depth)
    q3d = Reshape (q, head_shape)
    k3d = Reshape (k, head_shape)
    v3d = Reshape (v, head_shape)
    qh = Transpose <perm = [1, 0, 2]> (q3d)
    kh = Transpose <perm = [1, 2, 0]> (k3d)
    vh = Transpose <perm = [1, 0, 2]> (v3d)
    scores = MatMul (qh, kh)
    scaled = Mul (scores, scale)
    weights = Softmax <axis = -1> (scaled)
    mixed = MatMul (weights, vh)
    back = Transpose <perm = [1, 0, 2]> (mixed)
    rows_shape = Concat <axis = 0> (minus, width)
    flat = Reshape (back, rows_shape)
    out = MatMul (flat, block1_attention_output_0)
    outer = Add (block1_attention_output_1, out)
    b_list = Unsqueeze (bb, l0)
    whole_shape = Concat <axis = 0> (tt, b_list, width)
    whole = Reshape (outer, whole_shape)
    attended = Transpose <perm = [1, 0, 2]> (whole)
)";

Graph transformer_graph(const Network& network, const std::string& batch, const char* attention) {
    std::string body = std::string(patches_and_token) + attention + perceptron_and_head;
    Graph graph(fmt::format("g (float[{}, 3, 8, 12] x) => (float[{}, 5] y) {{{}}}", batch, batch, body));
    give_transformer_weights(graph, network);
    graph.integers("three", {3});
    graph.integers("ones_list", {1, 1, 1});
    onnx::TensorProto& open = *graph.model.mutable_graph()->add_initializer();
    open.set_name("is_open");
    open.set_data_type(onnx::TensorProto::BOOL);
    open.add_dims(3);
    for (const int value : {0, 1, 1}) open.add_int32_data(value);
    return graph;
}

TEST(ForeignGraph, ATransformerBecomesTheNetworkItSpellsOut) {
    const Network ours = small_transformer();
    const Tensor input = random_tensor({3 * 8 * 12 * 3}, 5);
    for (const char* attention : {attention_batch_first, attention_tokens_first})
        for (const char* batch : {"N", "1", "4"}) {
            SCOPED_TRACE(attention);
            SCOPED_TRACE(batch);
            const Network network = transformer_graph(ours, batch, attention).read();
            expect_near(outputs_of(network, 3, input), outputs_of(ours, 3, input));
            const auto counts = operator_counts(network);
            EXPECT_EQ(counts.at("layer normalisation"), 3);
            EXPECT_EQ(counts.at("gelu"), 1);
            EXPECT_EQ(counts.count("erf"), 0U);
            EXPECT_EQ(counts.at("dense"), 5);
            // Everything that trains in ours trains in theirs: biases are part of dense layers, numbers
            // fixed.
            EXPECT_EQ(parameter_count(network), parameter_count(ours));
        }
}

double logistic(double v) {
    return 1 / (1 + std::exp(-v));
}
double clipped(double v, double high) {
    return std::clamp(v, 0.0, high);
}

TEST(ForeignGraph, ActivationsAreFoundInEverySpellingAndNothingElseIsTakenForOne) {
    struct Spelling {
        const char* nodes;
        const char* kind;  // nullptr: none
        double (*formula)(double);
    };
    const auto silu = [](double v) { return v * logistic(v); };
    const auto hard_swish = [](double v) { return v * clipped(v + 3, 6) / 6; };
    const auto gelu = [](double v) { return v / 2 * (1 + std::erf(v / std::sqrt(2.0))); };
    const Spelling spellings[] = {
        {"s = Sigmoid (x) y = Mul (x, s)", "silu", silu},
        {"s = Sigmoid (x) y = Mul (s, x)", "silu", silu},
        {"s = HardSigmoid <alpha = 0.16666667, beta = 0.5> (x) y = Mul (x, s)", "hard swish", hard_swish},
        {"a = Add (x, three) c = Clip (a, zero, six) m = Mul (x, c) y = Div (m, six)", "hard swish",
         hard_swish},
        {"a = Add (three, x) c = Clip (a, zero, six) d = Div (c, six) y = Mul (d, x)", "hard swish",
         hard_swish},
        {"a = Add (x, three) c = Clip (a, zero, six) m = Mul (c, sixth) y = Mul (x, m)", "hard swish",
         hard_swish},
        {"q = Div (x, root) e = Erf (q) a = Add (e, one) m = Mul (x, a) y = Mul (m, half)", "gelu", gelu},
        {"q = Mul (x, inverse) e = Erf (q) a = Add (one, e) h = Mul (half, x) y = Mul (h, a)", "gelu", gelu},
        {"q = Div (x, root) e = Erf (q) a = Add (e, one) h = Div (a, two) y = Mul (h, x)", "gelu", gelu},
        {"s = Sigmoid (x) a = Mul (s, two) b = Mul (a, three) c = Mul (b, sixth) y = Mul (c, x)", "silu",
         silu},
        // A longer product is left as it is.
        {"s = Sigmoid (x) a = Mul (s, two) b = Mul (a, half) c = Mul (b, two) d = Mul (c, half) y = Mul (d, "
         "x)",
         nullptr, silu},
        // One number, one operator or one operand is another.
        {"s = Sigmoid (x) a = Add (s, one) y = Mul (x, a)", nullptr,
         [](double v) { return v * (logistic(v) + 1); }},
        {"d = Mul (x, two) s = Sigmoid (d) y = Mul (x, s)", nullptr,
         [](double v) { return v * logistic(2 * v); }},
        {"s = Sigmoid (x) m = Mul (x, two) y = Mul (m, s)", nullptr,
         [](double v) { return 2 * v * logistic(v); }},
        {"s = Sigmoid (x) y = Div (x, s)", nullptr, [](double v) { return v / logistic(v); }},
        {"s = Sigmoid (x) m = Mul (x, x) y = Mul (m, s)", nullptr,
         [](double v) { return v * v * logistic(v); }},
        {"s = HardSigmoid <alpha = 0.2, beta = 0.5> (x) y = Mul (x, s)", nullptr,
         [](double v) { return v * clipped(0.2 * v + 0.5, 1); }},
        {"s = HardSigmoid <alpha = 0.16666667, beta = 0.4> (x) y = Mul (x, s)", nullptr,
         [](double v) { return v * clipped(v / 6 + 0.4, 1); }},
        {"a = Add (x, two) c = Clip (a, zero, six) m = Mul (x, c) y = Div (m, six)", nullptr,
         [](double v) { return v * clipped(v + 2, 6) / 6; }},
        {"a = Add (x, three) c = Clip (a, zero, three) m = Mul (x, c) y = Div (m, six)", nullptr,
         [](double v) { return v * clipped(v + 3, 3) / 6; }},
        {"a = Add (x, three) c = Clip (a, zero, six) m = Mul (x, c) y = Div (m, three)", nullptr,
         [](double v) { return v * clipped(v + 3, 6) / 3; }},
        {"q = Div (x, root) e = Erf (q) a = Add (e, two) m = Mul (x, a) y = Mul (m, half)", nullptr,
         [](double v) { return v / 2 * (2 + std::erf(v / std::sqrt(2.0))); }},
        {"q = Div (x, two) e = Erf (q) a = Add (e, one) m = Mul (x, a) y = Mul (m, half)", nullptr,
         [](double v) { return v / 2 * (1 + std::erf(v / 2)); }},
        {"q = Div (x, root) e = Erf (q) a = Add (e, one) y = Mul (x, a)", nullptr,
         [](double v) { return v * (1 + std::erf(v / std::sqrt(2.0))); }},
    };
    const std::vector<float> x = {-4.0F, -1.5F, -0.5F, 0.7F, 2.0F, 5.0F};
    for (const Spelling& one : spellings) {
        SCOPED_TRACE(one.nodes);
        Graph graph(fmt::format("g (float[N, 6] x) => (float[N, 6] y) {{{}}}", one.nodes));
        const std::pair<const char*, float> numbers[] = {{"zero", 0.0F},
                                                         {"half", 0.5F},
                                                         {"one", 1.0F},
                                                         {"two", 2.0F},
                                                         {"three", 3.0F},
                                                         {"six", 6.0F},
                                                         {"sixth", 1.0F / 6},
                                                         {"root", std::sqrt(2.0F)},
                                                         {"inverse", 1 / std::sqrt(2.0F)}};
        for (const auto& [name, value] : numbers)
            if (std::string(one.nodes).find(name) != std::string::npos)
                graph.weight(name, {}, std::vector<float>{value});
        const Network network = graph.read();
        std::vector<float> expected;
        for (const float v : x) expected.push_back(static_cast<float>(one.formula(static_cast<double>(v))));
        expect_near(outputs_of(network, 1, Tensor({6}, x)), expected);
        const auto counts = operator_counts(network);
        for (const char* kind : {"silu", "hard swish", "gelu"})
            EXPECT_EQ(counts.count(kind), one.kind != nullptr && std::string(one.kind) == kind ? 1U : 0U)
                << kind;
        if (one.kind != nullptr) {
            EXPECT_EQ(network.nodes.size(), 2U);  // the input, and this
        }
    }
}

TEST(ForeignGraph, ChannelsLastModelsNeedNoTranspositions) {
    Graph graph(R"(g (float[N, 20, 24, 3] x) => (float[N, 4] y) {
        first = Transpose <perm = [0, 3, 1, 2]> (x)
        maps = Conv <auto_pad = "SAME_UPPER", strides = [2, 2]> (first, kernel)
        normal = BatchNormalization <epsilon = 0.001> (maps, scale, shift, mean, variance)
        six = Clip (normal, low, high)
        last = Transpose <perm = [0, 2, 3, 1]> (six)
        pooled = ReduceMean <axes = [1, 2], keepdims = 0> (last)
        product = MatMul (pooled, weight)
        sum = Add (product, bias)
        y = Softmax (sum)
    })");
    graph.weight("kernel", random_tensor({6, 3, 3, 3}, 1));
    graph.weight("scale", random_tensor({6}, 2));
    graph.weight("shift", random_tensor({6}, 3));
    graph.weight("mean", random_tensor({6}, 4));
    graph.weight("variance", {6}, std::vector<float>{1, 2, 3, 4, 5, 6});
    graph.weight("low", {}, std::vector<float>{0.0F});
    graph.weight("high", {}, std::vector<float>{6.0F});
    graph.weight("weight", random_tensor({6, 4}, 5));
    graph.weight("bias", random_tensor({4}, 6));
    const Network network = graph.read();
    EXPECT_EQ(network.input, (Shape{20, 24, 3}));
    const auto counts = operator_counts(network);
    EXPECT_EQ(counts.count("transpose"), 0U);
    EXPECT_EQ(counts.at("global average pooling"), 1);
    EXPECT_EQ(counts.at("dense"), 1);
    EXPECT_EQ(infer_shapes(network)[1], (Shape{10, 12, 6}));
    // At another size the padding is another one.
    const Network larger = graph.read({.image_size = 33});
    EXPECT_EQ(infer_shapes(larger)[1], (Shape{17, 17, 6}));
    const auto sums = outputs_of(larger, 1, random_tensor({33 * 33 * 3}, 7));
    EXPECT_NEAR(sums[0] + sums[1] + sums[2] + sums[3], 1.0, 1e-5);
}

TEST(ForeignGraph, ChannelsAreShuffledAndWindowsTakenAsWritten) {
    Graph shuffle(R"(g (float[N, 6, 4, 5] x) => (float[N, 6, 4, 5] y) {
        cut = Reshape (x, groups)
        turned = Transpose <perm = [0, 2, 1, 3, 4]> (cut)
        y = Reshape (turned, whole)
    })");
    shuffle.integers("groups", {-1, 2, 3, 4, 5});
    shuffle.integers("whole", {-1, 6, 4, 5});
    const Tensor image = random_tensor({2 * 4 * 5 * 6}, 8);
    const auto shuffled = outputs_of(shuffle.read(), 2, image);
    for (std::size_t i = 0; i < shuffled.size(); ++i) {
        const std::size_t channel = i % 6;  // [group, member] becomes [member, group]
        EXPECT_EQ(shuffled[i], image.values()[i - channel + channel % 2 * 3 + channel / 2]);
    }
    // Windows of 2x2 in the place of the batch, a layer on each token, and back.
    Graph windows(R"(g (float[N, 4, 6, 8] x) => (float[N, 4, 6, 8] y) {
        last = Transpose <perm = [0, 2, 3, 1]> (x)
        cut = Reshape (last, cuts)
        turned = Transpose <perm = [0, 1, 3, 2, 4, 5]> (cut)
        tokens = Reshape (turned, token_shape)
        mapped = MatMul (tokens, weight)
        scores = Softmax <axis = 1> (mapped)
        back_cut = Reshape (scores, back_cuts)
        back = Transpose <perm = [0, 1, 3, 2, 4, 5]> (back_cut)
        joined = Reshape (back, joined_shape)
        y = Transpose <perm = [0, 3, 1, 2]> (joined)
    })");
    windows.integers("cuts", {-1, 3, 2, 4, 2, 4});
    windows.integers("token_shape", {-1, 4, 4});
    windows.integers("back_cuts", {-1, 3, 4, 2, 2, 4});
    windows.integers("joined_shape", {-1, 6, 8, 4});
    std::vector<float> unit(16, 0.0F);
    for (std::size_t d = 0; d < 4; ++d) unit[5 * d] = 1.0F;
    windows.weight("weight", {4, 4}, unit);
    const Tensor maps = random_tensor({2 * 6 * 8 * 4}, 9);
    const auto scores = outputs_of(windows.read(), 2, maps);
    // Within each window of each image the scores of a channel sum to one, larger values having larger ones.
    const auto at = [](std::size_t n, std::size_t y, std::size_t x, std::size_t c) {
        return ((n * 6 + y) * 8 + x) * 4 + c;
    };
    for (std::size_t n = 0; n < 2; ++n)
        for (std::size_t y = 0; y < 6; y += 2)
            for (std::size_t x = 0; x < 8; x += 2)
                for (std::size_t c = 0; c < 4; ++c) {
                    double sum = 0.0;
                    for (const std::size_t dy : {0U, 1U})
                        for (const std::size_t dx : {0U, 1U})
                            sum += std::exp(static_cast<double>(maps.values()[at(n, y + dy, x + dx, c)]));
                    EXPECT_NEAR(scores[at(n, y, x, c)],
                                std::exp(static_cast<double>(maps.values()[at(n, y, x, c)])) / sum, 1e-5);
                }
}

// Convolution with an open image size, then features by shape arithmetic or by a number.
Graph sized_graph(const std::string& flatten, const std::string& height_and_width) {
    Graph graph(fmt::format(R"(g (float[N, 3, {}] x) => (float[N, 2] y) {{
        maps = Conv (x, kernel)
        {}
        y = Gemm (flat, weight)
    }})",
                            height_and_width, flatten));
    graph.weight("kernel", random_tensor({4, 3, 1, 1}, 1));
    graph.weight("weight", random_tensor({64, 2}, 2));
    graph.integers("shape", {-1, 64});
    return graph;
}

TEST(ForeignGraph, TheImageSizeMayDifferWhereTheGraphAllowsIt) {
    const Graph open = sized_graph("flat = Flatten (maps)", "S, S");
    EXPECT_THAT(open.refusal(), AllOf(HasSubstr("dimension 2 of its input 'x'"), HasSubstr("image size")));
    EXPECT_EQ(open.read({.image_size = 4}).input, (Shape{4, 4, 3}));
    EXPECT_THAT(open.refusal({.image_size = 8}),
                HasSubstr("does not work on images of 8x8: it was made for 4x4"));
    const Graph fixed = sized_graph("flat = Reshape (maps, shape)", "4, 4");
    EXPECT_EQ(infer_shapes(fixed.read()).back(), (Shape{2}));
    EXPECT_THAT(fixed.refusal({.image_size = 8}), HasSubstr("it was made for 4x4"));
    const Graph wide = sized_graph("flat = Reshape (maps, shape)", "2, 8");
    EXPECT_EQ(wide.read().input, (Shape{2, 8, 3}));
    EXPECT_THAT(wide.refusal({.image_size = 8}), HasSubstr("it was made for 2x8"));
}

TEST(ForeignGraph, AFileThatLeavesItsSizeOpenSaysTheUsualOneAtWhichItWorks) {
    for (const std::int64_t side : {4,   8,   16,  28,  32,  64,  96,  112, 128, 160, 192, 224,
                                    240, 256, 260, 288, 299, 300, 320, 380, 384, 448, 512}) {
        Graph open(R"(g (float[N, 3, S, S] x) => (float[N, 2] y) {
            flat = Flatten (x)
            y = Gemm (flat, weight)
        })");
        open.weight("weight", Tensor({side * side * 3, 2}));
        EXPECT_THAT(open.refusal({.image_size = 20}),
                    HasSubstr(fmt::format("it was made for {0}x{0}", side)));
    }
}

TEST(ForeignGraph, AnyNodeMayBeTheEndAndOnlyWhatItNeedsIsRead) {
    Graph graph(R"(g (float[N, 3, 4, 4] x) => (float[N, 6] y, float[N, 3, 4, 4] other) {
        maps = Conv (x, kernel)
        pooled = GlobalAveragePool (maps)
        y = Flatten (pooled)
        other = NonZero (x)
    })");
    graph.weight("kernel", random_tensor({6, 3, 1, 1}, 1));
    EXPECT_THAT(graph.refusal(), HasSubstr("it has 2 outputs ('y', 'other')"));
    EXPECT_EQ(infer_shapes(graph.read({.output = "y"})).back(), (Shape{6}));
    EXPECT_EQ(infer_shapes(graph.read({.output = "maps"})).back(), (Shape{4, 4, 6}));
    EXPECT_THAT(graph.refusal({.output = "other"}), HasSubstr("NonZero at 'other'"));
    EXPECT_THAT(graph.refusal({.output = "map"}), HasSubstr("did you mean 'maps'"));
}

}  // namespace
}  // namespace jevrin
