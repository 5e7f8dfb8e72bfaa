// Gradients of whole networks against central differences of a plain double-precision forward pass.
//
// Tolerance: central differences in double with step 1e-5 are exact to about 1e-9 relative except where a
// ReLU or a maximum changes sides within the step; float32 gradients carry rounding of about sqrt(terms) *
// 6e-8 per sum through the layers. 2e-4 of the largest gradient of a parameter leaves room for both and is
// far below any wrong term.

#include "network/reference_network.hpp"
#include "support/support.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/network/architecture.hpp"
#include "jevrin/network/training_pass.hpp"

#include <cstring>

namespace jevrin {
namespace {

using test::Doubles;
using test::random_tensor;

constexpr double tolerance = 2e-4;
constexpr double step = 1e-5;

void randomise(Network& network, std::uint64_t seed) {
    for (Node& node : network.nodes)
        for (std::size_t p = 0; p < node.parameters.size(); ++p)
            if (parameter_kind(node.op, p) != ParameterKind::statistic)
                node.parameters[p] = random_tensor(node.parameters[p].shape(), ++seed, 0.6);
}

// Checks up to 24 numbers of every parameter.
void check_gradients(Network network, std::int64_t batch, std::uint64_t seed) {
    randomise(network, seed);
    const std::int64_t outputs = element_count(infer_shapes(network).back());
    const Tensor input = random_tensor({batch * element_count(network.input)}, seed + 100);
    const Tensor gradient = random_tensor({batch * outputs}, seed + 200);
    test::DoubleParameters parameters = test::widen_parameters(network);
    const auto loss = [&] {
        const Doubles out = test::reference_forward(network, parameters, batch, test::widen(input.values()));
        double sum = 0;
        for (std::size_t i = 0; i < out.size(); ++i) sum += out[i] * gradient.data()[i];
        return sum;
    };
    const Doubles expected = test::reference_forward(network, parameters, batch, test::widen(input.values()));
    TrainingPass pass(network, batch + 2);
    const std::vector<std::int64_t> items(static_cast<std::size_t>(batch), 0);
    const auto output = pass.forward(batch, input.values(), {1, 1, items.data()});
    EXPECT_LT(test::worst_difference(output, expected), 1e-5);
    pass.backward(batch, gradient.values());
    std::size_t next = 0;
    for (std::size_t n = 0; n < network.nodes.size(); ++n)
        for (std::size_t p = 0; p < network.nodes[n].parameters.size(); ++p) {
            if (parameter_kind(network.nodes[n].op, p) == ParameterKind::statistic) continue;
            const TrainedParameter& trained = pass.parameters()[next++];
            double largest = 1e-2;
            for (const float g : trained.gradient)
                largest = std::max(largest, std::abs(static_cast<double>(g)));
            const std::size_t stride = std::max<std::size_t>(1, trained.gradient.size() / 24);
            for (std::size_t i = 0; i < trained.gradient.size(); i += stride) {
                double& value = parameters[n][p][i];
                const double before = value;
                value = before + step;
                const double above = loss();
                value = before - step;
                const double below = loss();
                value = before;
                EXPECT_NEAR(trained.gradient[i], (above - below) / (2 * step), tolerance * largest)
                    << network.nodes[n].name << " parameter " << p << " place " << i;
            }
        }
    EXPECT_EQ(next, pass.parameters().size());
}

std::size_t convolution(Network& network, std::size_t from, std::int64_t in, std::int64_t out, Window window,
                        bool bias) {
    std::vector<Tensor> parameters = {Tensor({window.kernel_height, window.kernel_width, in, out})};
    if (bias) parameters.emplace_back(Shape{out});
    return network.add("convolution" + std::to_string(network.nodes.size()), Convolution{window}, {from},
                       parameters);
}

std::size_t dense(Network& network, std::size_t from, std::int64_t in, std::int64_t out) {
    return network.add("dense" + std::to_string(network.nodes.size()), Dense{}, {from},
                       {Tensor({in, out}), Tensor({out})});
}

TEST(Gradients, ConvolutionWithStrideAsymmetricPaddingAndBias) {
    Network network{{7, 6, 3}, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = convolution(network, x, 3, 5, {3, 2, 2, 1, 1, 0, 0, 1}, true);
    x = convolution(network, x, 5, 4, {2, 3, 1, 2, 0, 1, 1, 2}, false);
    network.add("flatten", Flatten{}, {x});
    check_gradients(network, 3, 1);
}

TEST(Gradients, BatchNormalisationAndReluOnImagesAndVectors) {
    Network network{{4, 5, 2}, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = convolution(network, x, 2, 6, {3, 3, 1, 1, 1, 1, 1, 1}, false);
    x = network.add("normalisation", BatchNormalisation{}, {x}, std::vector<Tensor>(4, Tensor({6})));
    x = network.add("relu", Relu{}, {x});
    x = network.add("flatten", Flatten{}, {x});
    x = dense(network, x, 120, 5);
    x = network.add("normalisation2", BatchNormalisation{}, {x}, std::vector<Tensor>(4, Tensor({5})));
    dense(network, x, 5, 3);
    check_gradients(network, 5, 2);
}

TEST(Gradients, PoolingOfEveryKind) {
    Network network{{9, 8, 2}, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = convolution(network, x, 2, 4, {1, 1}, true);
    x = network.add("max", MaxPooling{{3, 2, 2, 1, 1, 0, 1, 1}}, {x});
    x = convolution(network, x, 4, 3, {1, 1}, true);
    x = network.add("average", AveragePooling{{2, 3, 1, 2, 1, 1, 0, 1}, false}, {x});
    x = network.add("average2", AveragePooling{{2, 2, 2, 1, 1, 1, 0, 1}, true}, {x});
    x = network.add("global", GlobalAveragePooling{}, {x});
    x = network.add("flatten", Flatten{}, {x});
    dense(network, x, 3, 2);
    check_gradients(network, 4, 3);
}

TEST(Gradients, AValueUsedTwiceCollectsBothGradients) {
    Network network{{5, 5, 2}, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = convolution(network, x, 2, 3, {3, 3, 1, 1, 1, 1, 1, 1}, true);
    const std::size_t a = convolution(network, x, 3, 3, {3, 3, 1, 1, 1, 1, 1, 1}, false);
    const std::size_t doubled = network.add("doubled", Add{}, {x, x});
    const std::size_t sum = network.add("sum", Add{}, {a, doubled});
    const std::size_t again = network.add("again", Add{}, {sum, x});
    network.add("flatten", Flatten{}, {again});
    check_gradients(network, 2, 4);
}

TEST(Gradients, AResidualNetworkWithAHead) {
    Network network = residual_backbone({.widths = {4, 6}, .blocks = 2, .stem_stride = 2}, {10, 9, 3});
    append_head(network, {.hidden = {5}}, 3);
    check_gradients(network, 4, 5);
}

TEST(TrainingPass, RunningStatisticsMoveTowardsThoseOfTheBatch) {
    Network network{{2}, {}};
    const std::size_t x = network.add("features", Input{}, {});
    network.add("normalisation", BatchNormalisation{.epsilon = 1e-5F, .momentum = 0.25F}, {x},
                std::vector<Tensor>(4, Tensor({2}, std::vector<float>{1, 1})));
    TrainingPass pass(network, 2);
    const std::vector<float> input = {2, 10, 6, 10};
    const std::vector<std::int64_t> items = {0, 1};
    pass.forward(2, input, {1, 1, items.data()});
    // Means 4 and 10, unbiased variances 8 and 0; a quarter of the way from 1.
    EXPECT_FLOAT_EQ(network.nodes[1].parameters[2].data()[0], 1.75F);
    EXPECT_FLOAT_EQ(network.nodes[1].parameters[2].data()[1], 3.25F);
    EXPECT_FLOAT_EQ(network.nodes[1].parameters[3].data()[0], 2.75F);
    EXPECT_FLOAT_EQ(network.nodes[1].parameters[3].data()[1], 0.75F);
}

}  // namespace
}  // namespace jevrin
