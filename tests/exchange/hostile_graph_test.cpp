// Graphs that mean harm, or ask for what cannot be: refused with a message, within little memory; and weights
// that lie beside the model or are of other kinds.
#include "exchange/foreign_graph.hpp"

#include "jevrin/base/memory.hpp"

#include <cmath>
#include <cstdint>
#include <filesystem>
#include <fstream>
#include <functional>

namespace jevrin {

using namespace operators;

namespace {

using test::Graph;
using test::outputs_of;
using test::random_tensor;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::HasSubstr;

TEST(HostileGraph, MixingTheImagesOfABatchIsRefusedInWords) {
    const auto refusal = [](const std::string& node) {
        return Graph("g (float[N, 3, 4, 4] x) => (float[N, 3, 4, 4] y) { " + node + " }").refusal();
    };
    EXPECT_THAT(refusal("y = Softmax <axis = 0> (x)"), HasSubstr("along the batch"));
    EXPECT_THAT(refusal("y = ReduceMean <axes = [0]> (x)"), HasSubstr("over the batch dimension"));
    EXPECT_THAT(refusal("y = Concat <axis = 0> (x, x)"), HasSubstr("along the batch"));
    EXPECT_THAT(refusal("y = Transpose <perm = [1, 0, 2, 3]> (x)"), HasSubstr("not the batch"));
    EXPECT_THAT(refusal("y = Loop (x)"),
                HasSubstr("1 of its nodes use operators that are not supported: Loop at"));
}

TEST(HostileGraph, HostileOnesAreRefusedInWords) {
    EXPECT_THAT(
        Graph("g (float[N, 3, 4, 4] x) => (float[N, 3, 4, 4] a) { a = Relu (b) b = Relu (a) }").refusal(),
        HasSubstr("which no earlier node computes"));
    EXPECT_THAT(Graph("g (float[N, 3, 4, 4] x) => (float[N, 3, 4, 4] a) { a = Add (x, gone) }").refusal(),
                HasSubstr("needs the value 'gone'"));
    EXPECT_THAT(Graph("g (float[N, 3, -4, 4] x) => (float[N, 3, 4, 4] a) { a = Relu (x) }").refusal(),
                HasSubstr("out of range"));
    EXPECT_THAT(
        Graph("g (float[N, 3, 4, 4] x) => (float[N, 3, 4, 4] a) { a = Relu (x) a = Relu (x) }").refusal(),
        HasSubstr("computed twice"));
    EXPECT_THAT(Graph("g (float[N, 3, 4, 4] x) => (float[N, 3, 4, 4] a) { "
                      "a = MaxPool <kernel_shape = [2, 2], strides = [0, 1]> (x) }")
                    .refusal(),
                HasSubstr("must be positive"));
    // A constant that claims gigabytes.
    Graph large(
        "g (float[N, 3, 4, 4] x) => (float[N, 3, 4, 4] a) { c = ConstantOfShape (shape) a = Add (x, c) }");
    large.integers("shape", {1 << 20, 1 << 20});
    EXPECT_THAT(large.refusal(), HasSubstr("too large"));
    Graph many(
        "g (float[N, 4] x) => (float[N, 4] a) { "
        "c = ConstantOfShape (shape) d = Neg (c) e = Neg (d) f = Neg (e) h = Neg (f) "
        "i = ReduceSum (h) a = Add (x, i) }");
    many.integers("shape", {1 << 24});
    EXPECT_THAT(many.refusal(), HasSubstr("too large in total"));
}

TEST(HostileGraph, DeepProductsAndHugeValuesNeitherHangNorExhaustMemory) {
    std::string squares = "a0 = Relu (x) ";
    for (int i = 1; i <= 60; ++i) squares += fmt::format("a{} = Mul (a{}, a{}) ", i, i - 1, i - 1);
    const Network network = Graph("g (float[N, 4] x) => (float[N, 4] a60) { " + squares + "}").read();
    EXPECT_EQ(network.nodes.size(), 62U);
    Graph wide("g (float[N, 1, 4, 4] x) => (float[N, 1, 4, 4] a) { p = Pad (x, pads) a = Relu (p) }");
    wide.integers("pads", {0, 0, 1 << 20, 1 << 20, 0, 0, 0, 0});
    EXPECT_THAT(wide.refusal(), HasSubstr("too large"));
    Graph ones("g (float[N, 1, 4, 4] x) => (float[N, 1, 4, 4] a) { a = Expand (x, shape) }");
    ones.integers("shape", {1, 1 << 20, 4, 4});
    EXPECT_EQ(infer_shapes(ones.read()).back(), (Shape{4, 4, 1 << 20}));
    Graph more("g (float[N, 1, 1, 1] x) => (float[N, 1, 4, 4] a) { a = Expand (x, shape) }");
    more.integers("shape", {1, 1 << 20, 1 << 10, 1});
    EXPECT_THAT(more.refusal(), HasSubstr("too large"));
    Graph normal(
        "g (float[N, 1000, 1000, 8] x) => (float[N, 1000, 1000, 8] y) { y = LayerNormalization <axis = 0> "
        "(x, s) }",
        17);
    normal.weight("s", {8}, std::vector<float>(8, 1.0F));
    EXPECT_THAT(normal.refusal(), HasSubstr("along the batch"));
}

TEST(HostileGraph, NodesAndLayersHaveALimit) {
    const auto chain = [](const char* operation, std::int64_t count) {
        std::string nodes = "a0 = Relu (x) ";
        for (std::int64_t i = 1; i <= count; ++i)
            nodes += fmt::format("a{} = {} (a{}{}) ", i, operation, i - 1,
                                 operation == std::string("Relu") ? "" : ", w");
        Graph graph(fmt::format("g (float[N, 1] x) => (float[N, 1] a{}) {{ {} }}", count, nodes));
        if (operation != std::string("Relu")) graph.weight("w", {1, 1}, std::vector<float>{1.0F});
        return graph;
    };
    EXPECT_EQ(chain("Relu", most_weighted_layers + 1).read().nodes.size(), most_weighted_layers + 3);
    EXPECT_NO_THROW(chain("MatMul", most_weighted_layers).read());
    for (const char* layer : {"MatMul", "Gemm"})
        EXPECT_THAT(chain(layer, most_weighted_layers + 1).refusal(),
                    HasSubstr("it has 4097 convolutions and dense layers; the limit is 4096"));
    EXPECT_THAT(chain("Relu", 50'000).refusal(), HasSubstr("it has 50001 nodes; the limit is 50000"));
}

TEST(HostileGraph, WeightsBesideTheModelAreReadAndNothingElseOnTheMachine) {
    Graph graph("g (float[N, 2] x) => (float[N, 3] y) { y = Gemm (x, w) }");
    const std::vector<float> values = {1, 2, 3, 4, 5, 6};
    onnx::TensorProto& weight = graph.weight("w", {2, 3}, values);
    weight.clear_raw_data();
    weight.set_data_location(onnx::TensorProto::EXTERNAL);
    const auto entry = [&](const std::string& key, const std::string& value) {
        auto& one = *weight.add_external_data();
        one.set_key(key);
        one.set_value(value);
    };
    entry("location", "weights/w.bin");
    entry("offset", "4");
    entry("length", "24");
    make_directory(graph.directory() / "weights");
    std::string bytes(4, '\0');
    bytes.append(reinterpret_cast<const char*>(values.data()), 24);
    write_file(graph.directory() / "weights" / "w.bin", bytes);
    const float x[] = {1, 10};
    EXPECT_EQ(outputs_of(graph.read(), 1, Tensor({2}, x)), (std::vector<float>{41, 52, 63}));
    write_file(graph.directory() / "weights" / "w.bin", bytes.substr(0, 20));
    EXPECT_THAT(graph.refusal(), HasSubstr("beyond the end"));
    const TemporaryDirectory elsewhere;
    write_file(elsewhere / "w.bin", bytes);
    for (const std::string& outside :
         {std::string("../w.bin"), (elsewhere / "w.bin").string(), std::string("weights/../../w.bin")}) {
        weight.mutable_external_data(0)->set_value(outside);
        EXPECT_THAT(graph.refusal(), HasSubstr("outside the folder")) << outside;
    }
    std::filesystem::create_symlink(elsewhere / "w.bin", graph.directory() / "link.bin");
    weight.mutable_external_data(0)->set_value("link.bin");
    EXPECT_THAT(graph.refusal(), HasSubstr("outside the folder"));
    weight.mutable_external_data(0)->set_value("weights/none.bin");
    EXPECT_THAT(graph.refusal(), HasSubstr("does not exist"));
    weight.mutable_external_data(0)->set_value("weights/w.bin");
    weight.mutable_external_data(1)->set_value("4 bytes");
    EXPECT_THAT(graph.refusal(), HasSubstr("the offset of the weight 'w' in its file is not a number"));
}

// A graph with the constant 1, 3 of a type, put in by the function.
void expect_one_and_three(int type, const std::function<void(onnx::TensorProto&)>& put) {
    Graph graph("g (float[N, 2] x) => (float[N, 2] y) { k = Cast <to = 1> (c) y = Mul (x, k) }");
    onnx::TensorProto& constant = graph.weight("c", {2}, {});
    constant.clear_raw_data();
    constant.set_data_type(type);
    put(constant);
    const float x[] = {1, 1};
    EXPECT_EQ(outputs_of(graph.read(), 1, Tensor({2}, x)), (std::vector<float>{1, 3})) << "type " << type;
}

template <typename Number>
void expect_raw(int type, Number one, Number three) {
    const Number numbers[] = {one, three};
    expect_one_and_three(type,
                         [&](onnx::TensorProto& tensor) { tensor.set_raw_data(numbers, sizeof numbers); });
}

TEST(HostileGraph, NumbersMayBeOfAnyTypeAsBytesAndInTheFieldOfTheirType) {
    using onnx::TensorProto;
    expect_raw<float>(TensorProto::FLOAT, 1, 3);
    expect_raw<double>(TensorProto::DOUBLE, 1, 3);
    expect_raw<std::uint16_t>(TensorProto::FLOAT16, 0x3C00, 0x4200);
    expect_raw<std::uint16_t>(TensorProto::BFLOAT16, 0x3F80, 0x4040);
    expect_raw<std::int64_t>(TensorProto::INT64, 1, 3);
    expect_raw<std::uint64_t>(TensorProto::UINT64, 1, 3);
    expect_raw<std::int32_t>(TensorProto::INT32, 1, 3);
    expect_raw<std::uint32_t>(TensorProto::UINT32, 1, 3);
    expect_raw<std::int16_t>(TensorProto::INT16, 1, 3);
    expect_raw<std::uint16_t>(TensorProto::UINT16, 1, 3);
    expect_raw<std::int8_t>(TensorProto::INT8, 1, 3);
    expect_raw<std::uint8_t>(TensorProto::UINT8, 1, 3);
    for (const int type :
         {TensorProto::INT32, TensorProto::INT16, TensorProto::UINT16, TensorProto::INT8, TensorProto::UINT8})
        expect_one_and_three(type, [](TensorProto& tensor) {
            for (const int number : {1, 3}) tensor.add_int32_data(number);
        });
    expect_one_and_three(TensorProto::FLOAT16, [](TensorProto& tensor) {
        for (const int number : {0x3C00, 0x4200}) tensor.add_int32_data(number);
    });
    expect_one_and_three(TensorProto::BFLOAT16, [](TensorProto& tensor) {
        for (const int number : {0x3F80, 0x4040}) tensor.add_int32_data(number);
    });
    expect_one_and_three(TensorProto::FLOAT, [](TensorProto& tensor) {
        for (const float number : {1.0F, 3.0F}) tensor.add_float_data(number);
    });
    expect_one_and_three(TensorProto::DOUBLE, [](TensorProto& tensor) {
        for (const double number : {1.0, 3.0}) tensor.add_double_data(number);
    });
    expect_one_and_three(TensorProto::INT64, [](TensorProto& tensor) {
        for (const int number : {1, 3}) tensor.add_int64_data(number);
    });
    for (const int type : {TensorProto::UINT64, TensorProto::UINT32})
        expect_one_and_three(type, [](TensorProto& tensor) {
            for (const unsigned number : {1U, 3U}) tensor.add_uint64_data(number);
        });
}

TEST(HostileGraph, WeightsMayBeOfSixteenBits) {
    Graph graph("g (float[N, 2] x) => (float[N, 2] y) { w32 = Cast <to = 1> (w) y = MatMul (x, w32) }");
    onnx::TensorProto& weight = graph.weight("w", {2, 2}, {});
    weight.set_data_type(onnx::TensorProto::FLOAT16);
    const std::uint16_t halves[] = {0x3C00, 0xC000, 0x3555, 0x0001};  // 1, -2, 0.333, the least above 0
    weight.set_raw_data(halves, sizeof halves);
    const float x[] = {1, 1};
    const auto y = outputs_of(graph.read(), 1, Tensor({2}, x));
    EXPECT_NEAR(y[0], 1.33325, 1e-5);
    EXPECT_FLOAT_EQ(y[1], -2.0F + std::ldexp(1.0F, -24));
}

TEST(HostileGraph, ReadingTakesLittleMoreMemoryThanTheWeights) {
#if defined(__SANITIZE_THREAD__)
    GTEST_SKIP() << "the sanitizer's own memory would be counted";
#endif
    const TemporaryDirectory directory;
    {
        Network network{{2048}, {}};
        std::size_t x = network.add("x", Input{}, {});
        for (int i = 0; i < 4; ++i)
            x = network.add(fmt::format("dense{}", i), Dense{}, {x},
                            {random_tensor({2048, 2048}, 1), Tensor({2048})});
        write_model(directory / "large.onnx", {network, {}});
    }
    std::ofstream("/proc/self/clear_refs") << "5";
    const std::int64_t before = peak_memory();
    const Model model = read_model(directory / "large.onnx");
    const auto weights = static_cast<double>(parameter_count(model.network) * 4);
    EXPECT_LT(static_cast<double>(peak_memory() - before), 1.2 * weights);
}

}  // namespace
}  // namespace jevrin
