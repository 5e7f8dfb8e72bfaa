// Gradients of whole networks against central differences of a plain double-precision forward pass.
//
// Tolerance: central differences in double with step 1e-5 are exact to about 1e-9 relative except where a
// ReLU or a maximum changes sides within the step; float32 gradients carry rounding of about sqrt(terms) *
// 6e-8 per sum through the layers. 2e-4 of the largest gradient of a parameter leaves room for both and is
// far below any wrong term.
#pragma once

#include "execution/reference_network.hpp"
#include "support/support.hpp"

#include "jevrin/execution/training_pass.hpp"

#include <cmath>
#include <cstdint>
#include <vector>

namespace jevrin::test {

inline void randomise(Network& network, std::uint64_t seed) {
    for (Node& node : network.nodes)
        for (std::size_t p = 0; p < node.parameters.size(); ++p)
            if (parameter_kind(node.op, p) != ParameterKind::statistic)
                node.parameters[p] = random_tensor(node.parameters[p].shape(), ++seed, 0.6);
}

// Checks up to 24 numbers of every parameter.
inline void check_gradients(Network network, std::int64_t batch, std::uint64_t seed) {
    constexpr double tolerance = 2e-4;
    constexpr double step = 1e-5;
    randomise(network, seed);
    const std::int64_t outputs = element_count(infer_shapes(network).back());
    const Tensor input = random_tensor({batch * element_count(network.input)}, seed + 100);
    const Tensor gradient = random_tensor({batch * outputs}, seed + 200);
    DoubleParameters parameters = widen_parameters(network);
    const auto loss = [&] {
        const Doubles out = reference_forward(network, parameters, batch, widen(input.values()));
        double sum = 0;
        for (std::size_t i = 0; i < out.size(); ++i) sum += out[i] * gradient.data()[i];
        return sum;
    };
    const Doubles expected = reference_forward(network, parameters, batch, widen(input.values()));
    TrainingPass pass(network, batch + 2);
    const std::vector<std::int64_t> items(static_cast<std::size_t>(batch), 0);
    const auto output = pass.forward(batch, input.values(), {1, 1, items.data()});
    EXPECT_LT(worst_difference(output, expected), 1e-5);
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

}  // namespace jevrin::test
