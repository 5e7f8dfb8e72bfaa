#include "jevrin/execution/inference.hpp"

#include "execution/reference_network.hpp"
#include "graph/small_network.hpp"

#include "jevrin/graph/rewriting.hpp"

#include <cmath>
#include <cstring>

namespace jevrin {

using namespace operators;

namespace {

using test::outputs_of;
using test::random_tensor;
using test::small_network;

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

// Convolutions around depthwise ones, as inverted residual blocks and others have them.
class SeparableNetwork {
  public:
    SeparableNetwork() {
        const std::size_t image = network_.add("image", Input{}, {});
        // A depthwise convolution first; its projection is read by the next one alone.
        std::size_t x = depthwise("first", image, 3, 1);
        x = single("first.project", x, 3, 8);
        x = relu_of(depthwise("second", x, 8, 2));
        x = single("second.project", x, 8, 12);
        // An inverted residual block with its sum.
        std::size_t y = relu_of(single("block.expand", x, 12, 40));
        y = relu_of(depthwise("block.filter", y, 40, 1));
        y = single("block.project", y, 40, 12);
        x = network_.add("block.sum", sum_of_two(), {x, y});
        // The filtered value has two readers: it is kept, and so is what multiplies it.
        y = relu_of(single("gate.expand", x, 12, 20));
        y = relu_of(depthwise("gate.filter", y, 20, 1));
        const std::size_t mean = network_.add("gate.mean", GlobalAveragePooling{}, {y});
        y = network_.add("gate.product", Arithmetic{ArithmeticKind::multiply}, {y, mean});
        // A broadcast sum is no part of a block.
        const std::size_t z = single("wide.project", relu_of(depthwise("wide.filter", y, 20, 1)), 20, 5);
        const std::size_t means = network_.add("wide.mean", GlobalAveragePooling{}, {z});
        const std::size_t again = single("again.project", depthwise("again.filter", z, 5, 1), 5, 5);
        x = network_.add("sum", sum_of_two(), {again, means});
        // Of two branches that are added, one takes the sum.
        const std::size_t left = single("left.project", depthwise("left.filter", x, 5, 1), 5, 7);
        const std::size_t right = single("right.project", depthwise("right.filter", x, 5, 1), 5, 7);
        network_.add("branches", sum_of_two(), {left, right});
    }
    const Network& network() const { return network_; }

  private:
    std::size_t single(const std::string& name, std::size_t x, std::int64_t in, std::int64_t out) {
        return network_.add(name, Convolution{}, {x},
                            {random_tensor({1, 1, in, out}, ++seed_), random_tensor({out}, ++seed_)});
    }
    std::size_t depthwise(const std::string& name, std::size_t x, std::int64_t channels,
                          std::int64_t stride) {
        return network_.add(name, Convolution{{3, 3, stride, stride, 1, 1, 1, 1}, channels}, {x},
                            {random_tensor({3, 3, 1, channels}, ++seed_)});
    }
    std::size_t relu_of(std::size_t x) { return network_.add(network_.nodes[x].name + ".relu", relu(), {x}); }

    Network network_{{19, 17, 3}, {}};
    std::uint64_t seed_ = 0;
};

TEST(Inference, DepthwiseConvolutionsAreComputedWithTheirNeighbours) {
    const Network network = SeparableNetwork().network();
    const Tensor input = random_tensor({2, element_count(network.input)}, 77);
    const std::vector<float> outputs = outputs_of(network, 2, input);
    EXPECT_LT(
        test::worst_difference(outputs, test::reference_forward(network, test::widen_parameters(network), 2,
                                                                test::widen(input.values()))),
        1e-5);
    std::vector<std::string> joined;
    const Network rewritten = rewrite(network, RewritingStage::before_inference);
    EXPECT_EQ(multiplication_count(rewritten), multiplication_count(network));
    for (const Node& node : rewritten.nodes)
        if (const auto* op = std::get_if<SeparableConvolution>(&node.op))
            joined.push_back((op->expands ? "expanded " : "") + node.name +
                             (op->projects ? " projected" : ""));
    EXPECT_THAT(joined, testing::ElementsAre("first.project projected", "second.project projected",
                                             "expanded block.sum projected", "expanded gate.filter",
                                             "wide.project projected", "again.project projected",
                                             "right.project projected", "branches projected"));
}

TEST(Inference, ActivationsAreAppliedByTheDenseLayersBeforeThem) {
    Network network{{7, 20}, {}};
    std::size_t x = network.add("rows", Input{}, {});
    x = network.add("wide", Dense{}, {x}, {random_tensor({20, 80}, 1), random_tensor({80}, 2)});
    x = network.add("wide.gelu", Activation{{FunctionKind::gelu}}, {x});
    x = network.add("narrow", Dense{}, {x}, {random_tensor({80, 6}, 3)});
    network.add("narrow.relu", relu(), {x});
    EXPECT_EQ(rewrite(network, RewritingStage::before_inference).nodes.size(), 3U);
    for (const std::int64_t batch : {1, 9}) {
        const Tensor input = random_tensor({batch, 140}, 5);
        EXPECT_LT(test::worst_difference(outputs_of(network, batch, input),
                                         test::reference_forward(network, test::widen_parameters(network),
                                                                 batch, test::widen(input.values()))),
                  1e-5);
    }
}

TEST(Softmax, SumsToOneEvenForLargeLogits) {
    const std::vector<float> logits = {1000, 1001, -5000};
    std::vector<float> p(3);
    class_probabilities(1, 3, logits, p);
    EXPECT_NEAR(p[1], 1 / (1 + std::exp(-1.0)), 1e-6);
    EXPECT_NEAR(p[0] + p[1] + p[2], 1.0, 1e-6);
}

}  // namespace
}  // namespace jevrin
