// Weights of a model file that several layers read: one parameter when it is counted, trained and written.
#include "exchange/foreign_graph.hpp"
#include "support/support.hpp"

#include "jevrin/execution/inference.hpp"
#include "jevrin/execution/training_pass.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/graph/layer_table.hpp"
#include "jevrin/training/optimiser.hpp"

#include <cmath>
#include <cstring>

namespace jevrin {
namespace {

using test::Graph;
using test::random_tensor;
using testing::HasSubstr;

constexpr std::int64_t kernel_size = 3 * 3 * 4 * 4;

// Two convolutions with one kernel and biases of their own, two dense layers with one weight (one of them as
// product and sum), two normalisations of one scale.
Graph twice_used() {
    Graph graph(R"(g (float[N, 4, 6, 6] x) => (float[N, 3] y) {
        a = Conv <pads = [1, 1, 1, 1]> (x, kernel, bias1)
        b = Relu (a)
        c = Conv <pads = [1, 1, 1, 1]> (b, kernel, bias2)
        p = GlobalAveragePool (c)
        f = Flatten (p)
        n1 = LayerNormalization (f, scale, shift1)
        d1 = Gemm (n1, weight, bias3)
        n2 = LayerNormalization (d1, scale, shift2)
        m = MatMul (n2, weight)
        d2 = Add (m, bias4)
        y = Gemm (d2, classes)
    })",
                17);
    graph.weight("kernel", random_tensor({4, 4, 3, 3}, 1, 0.3));
    graph.weight("weight", random_tensor({4, 4}, 2));
    graph.weight("scale", random_tensor({4}, 3));
    graph.weight("classes", random_tensor({4, 3}, 4));
    std::uint64_t seed = 5;
    for (const char* own : {"bias1", "bias2", "bias3", "bias4", "shift1", "shift2"})
        graph.weight(own, random_tensor({4}, seed++));
    return graph;
}

constexpr std::int64_t all_numbers = kernel_size + 16 + 4 + 12 + 6 * 4;

Tensor& parameter(Network& network, const std::string& node, std::size_t p) {
    for (Node& n : network.nodes)
        if (n.name == node) return n.parameters.at(p);
    throw std::out_of_range(node);
}

bool same_bits(const Tensor& a, const Tensor& b) {
    return a.shape() == b.shape() && std::memcmp(a.data(), b.data(), a.values().size_bytes()) == 0;
}

TEST(SharedWeights, CountOnceAndAreNamedInTheTableOfLayers) {
    const Network network = twice_used().read();
    EXPECT_EQ(parameter_count(network), all_numbers);
    std::int64_t in_table = 0;
    for (const LayerRow& row : layer_table(network)) {
        in_table += row.parameters;
        if (row.name == "c") {
            EXPECT_EQ(row.parameters, 4);
            EXPECT_THAT(row.operators, HasSubstr("weight of a"));
        }
    }
    EXPECT_EQ(in_table, all_numbers);
}

TEST(SharedWeights, AreWrittenOnceAndReadBackTheSame) {
    const Graph graph = twice_used();
    const Network network = graph.read();
    const std::filesystem::path file = graph.directory() / "again.onnx";
    write_model(file, {network, {}});
    onnx::ModelProto written;
    ASSERT_TRUE(written.ParseFromString(read_text(file)));
    std::int64_t numbers = 0;
    for (const onnx::TensorProto& tensor : written.graph().initializer())
        if (tensor.data_type() == onnx::TensorProto::FLOAT) {
            std::int64_t size = 1;
            for (const std::int64_t length : tensor.dims()) size *= length;
            numbers += size;
        }
    EXPECT_EQ(numbers, all_numbers);
    const Network again = read_model(file).network;
    EXPECT_EQ(parameter_count(again), all_numbers);
    EXPECT_EQ(again.nodes.size(), network.nodes.size());
}

TEST(SharedWeights, WithOtherNumbersAreWrittenApart) {
    const Graph graph = twice_used();
    Network network = graph.read();
    parameter(network, "c", 0).values()[0] += 1.0F;
    const std::filesystem::path file = graph.directory() / "apart.onnx";
    write_model(file, {network, {}});
    Network again = read_model(file).network;
    EXPECT_EQ(parameter_count(again), all_numbers + kernel_size);
    EXPECT_TRUE(same_bits(parameter(again, "c", 0), parameter(network, "c", 0)));
    EXPECT_TRUE(same_bits(parameter(again, "a", 0), parameter(network, "a", 0)));
}

// Loss: a weighted sum of the outputs.
double loss_of(const Network& network, const Tensor& images, const Tensor& weights) {
    Inference pass(network, 2);
    const std::span<const float> out = pass.run(2, images.values());
    double sum = 0.0;
    for (std::size_t i = 0; i < weights.values().size(); ++i)
        sum += static_cast<double>(out[i]) * weights.data()[i];
    return sum;
}

TEST(SharedWeights, GetTheSumOfTheirGradients) {
    Network network = twice_used().read();
    const Tensor images = random_tensor({2, 6, 6, 4}, 20);
    const Tensor weights = random_tensor({2, 3}, 21);
    TrainingPass pass(network, 2);
    const std::vector<std::int64_t> items(2, 0);
    pass.forward(2, images.values(), {1, 1, items.data()});
    pass.backward(2, weights.values());
    const auto gradient_of = [&](const std::string& node, std::size_t p) {
        for (const TrainedParameter& trained : pass.parameters())
            if (network.nodes[trained.node].name == node && p-- == 0) return trained.gradient;
        throw std::out_of_range(node);
    };
    // Both copies moved, as what trains moves them. Float32 and a step of 1/64: within a hundredth.
    constexpr float step = 1.0F / 64.0F;
    for (const auto& [first, second, size] :
         {std::tuple("a", "c", kernel_size), {"d1", "d2", std::int64_t{16}}, {"n1", "n2", std::int64_t{4}}}) {
        const std::span<const float> gradient = gradient_of(first, 0);
        EXPECT_EQ(std::memcmp(gradient.data(), gradient_of(second, 0).data(), gradient.size_bytes()), 0);
        double largest = 0.0;
        for (const float g : gradient) largest = std::max(largest, std::abs(static_cast<double>(g)));
        EXPECT_GT(largest, 0.0);
        for (std::int64_t i = 0; i < size; i += std::max<std::int64_t>(1, size / 12)) {
            const auto moved = [&](float by) {
                Network other = network;
                parameter(other, first, 0).data()[i] += by;
                parameter(other, second, 0).data()[i] += by;
                return loss_of(other, images, weights);
            };
            EXPECT_NEAR(gradient[static_cast<std::size_t>(i)],
                        (moved(step) - moved(-step)) / (2.0 * static_cast<double>(step)), 0.02 * largest)
                << first << " " << i;
        }
    }
}

TEST(SharedWeights, StayEqualInTrainingWhateverTheLayersLearnAt) {
    for (const OptimiserKind kind : {OptimiserKind::sgd, OptimiserKind::adamw}) {
        Network network = twice_used().read();
        for (Node& node : network.nodes)
            if (node.name == "c") node.rate_factor = 0.1;
        const Network before = network;
        TrainingPass pass(network, 2);
        Optimiser optimiser({.kind = kind, .learning_rate = 0.01}, pass.parameters());
        const std::vector<std::int64_t> items(2, 0);
        for (std::uint64_t step = 0; step < 5; ++step) {
            const Tensor images = random_tensor({2, 6, 6, 4}, 30 + step);
            pass.forward(2, images.values(), {1, 1, items.data()});
            pass.backward(2, random_tensor({2, 3}, 40 + step).values());
            optimiser.step(pass.parameters(), {.learning_rate = 0.01});
        }
        for (const auto& [first, second] : {std::pair("a", "c"), {"d1", "d2"}, {"n1", "n2"}}) {
            EXPECT_TRUE(same_bits(parameter(network, first, 0), parameter(network, second, 0))) << first;
            Network old = before;
            EXPECT_FALSE(same_bits(parameter(network, first, 0), parameter(old, first, 0))) << first;
        }
        EXPECT_FALSE(same_bits(parameter(network, "a", 1), parameter(network, "c", 1)));
        double squares = 0.0;
        for (const TrainedParameter& p : pass.parameters())
            if (!p.repeated) squares += sum_of_squares(p.gradient);
        EXPECT_NEAR(gradient_norm(pass.parameters()), std::sqrt(squares), 1e-9 * std::sqrt(squares));
        EXPECT_EQ(std::ranges::count_if(pass.parameters(), &TrainedParameter::repeated), 3);
    }
}

TEST(SharedWeights, PartWhereOnlyOneSideTrains) {
    Network network = twice_used().read();
    const auto first =
        static_cast<std::size_t>(std::ranges::find(network.nodes, "n1", &Node::name) - network.nodes.begin());
    freeze_before(network, first);
    EXPECT_EQ(trainable_parameter_count(network), 16 + 4 + 12 + 4 * 4);
    // Those on one side stay together.
    EXPECT_EQ(parameter_count(network), all_numbers);
    freeze_before(network, first - 4);  // between the two convolutions
    EXPECT_EQ(parameter_count(network), all_numbers + kernel_size);
    freeze_before(network, 0);
    EXPECT_EQ(parameter_count(network), all_numbers + kernel_size);
}

TEST(SharedWeights, BeginEqualFromScratch) {
    Network network = twice_used().read();
    initialise(network, 0, 7);
    EXPECT_TRUE(same_bits(parameter(network, "a", 0), parameter(network, "c", 0)));
    EXPECT_TRUE(same_bits(parameter(network, "d1", 0), parameter(network, "d2", 0)));
}

}  // namespace
}  // namespace jevrin
