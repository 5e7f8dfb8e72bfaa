// Gradients of each operator and of whole networks (gradient_check.hpp).
#include "execution/gradient_check.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/execution/training_pass.hpp"
#include "jevrin/graph/architecture.hpp"

#include <fmt/format.h>

#include <cstring>

namespace jevrin {

using namespace operators;

namespace {

using test::check_gradients;
using test::Doubles;
using test::random_tensor;
using testing::ElementsAre;
using testing::ElementsAreArray;

std::size_t convolution(Network& network, std::size_t from, std::int64_t in, std::int64_t out, Window window,
                        bool bias) {
    std::vector<Tensor> parameters = {Tensor({window.kernel_height, window.kernel_width, in, out})};
    if (bias) parameters.emplace_back(Shape{out});
    return network.add(fmt::format("convolution{}", network.nodes.size()), Convolution{window}, {from},
                       parameters);
}

std::size_t dense(Network& network, std::size_t from, std::int64_t in, std::int64_t out) {
    return network.add(fmt::format("dense{}", network.nodes.size()), Dense{}, {from},
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
    x = network.add("relu", relu(), {x});
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
    const std::size_t doubled = network.add("doubled", sum_of_two(), {x, x});
    const std::size_t sum = network.add("sum", sum_of_two(), {a, doubled});
    const std::size_t again = network.add("again", sum_of_two(), {sum, x});
    network.add("flatten", Flatten{}, {again});
    check_gradients(network, 2, 4);
}

TEST(Gradients, ThoseOfAWeightThatThreeNodesShareAreAddedUp) {
    const auto gradients = [](bool shared) {
        Network network{{4}, {}};
        std::size_t x = network.add("input", Input{}, {});
        const Tensor weight = random_tensor({4, 4}, 1);
        for (const char* name : {"first", "second", "third"}) {
            x = network.add(name, Dense{}, {x}, {weight});
            if (shared) network.nodes[x].shared = {"weight"};
        }
        TrainingPass pass(network, 3);
        const std::vector<std::int64_t> items(3, 0);
        const Tensor input = random_tensor({12}, 2);
        const Tensor gradient = random_tensor({12}, 3);
        pass.forward(3, input.values(), {1, 1, items.data()});
        pass.backward(3, gradient.values());
        std::vector<std::vector<float>> result;
        for (const TrainedParameter& parameter : pass.parameters())
            result.emplace_back(parameter.gradient.begin(), parameter.gradient.end());
        return result;
    };
    const auto own = gradients(false);
    const auto shared = gradients(true);
    ASSERT_EQ(own.size(), 3U);
    ASSERT_EQ(shared.size(), 3U);
    for (std::size_t i = 0; i < 16; ++i)
        for (const std::vector<float>& copy : shared)
            EXPECT_NEAR(copy[i], own[0][i] + own[1][i] + own[2][i], 1e-5) << i;
}

TEST(Gradients, AreReadyWhenTheyAreWholeAlsoWhereNodesShareAWeight) {
    Network network{{4}, {}};
    std::size_t x = network.add("input", Input{}, {});
    const Tensor weight = random_tensor({4, 4}, 1);
    for (const char* name : {"first", "shared", "again", "own", "last", "once more"}) {
        x = network.add(name, Dense{}, {x}, {weight, random_tensor({4}, x)});
        if (x == 2 || x == 3 || x == 6) network.nodes[x].shared = {"weight", ""};
    }
    TrainingPass pass(network, 3);
    const std::vector<std::int64_t> items(3, 0);
    const Tensor input = random_tensor({12}, 2);
    const Tensor gradient = random_tensor({12}, 3);
    for (const std::int64_t batch : {3, 0}) {
        std::vector<std::size_t> order;
        std::vector<std::vector<float>> when_ready(12);
        pass.forward(batch, input.values(), {1, 1, items.data()});
        pass.backward(batch, gradient.values(), [&](std::size_t parameter) {
            order.push_back(parameter);
            const auto& now = pass.parameters()[parameter].gradient;
            when_ready[parameter].assign(now.begin(), now.end());
        });
        // Weight and bias of each layer from the end on; the shared weights, numbers 2, 4 and 10, last.
        EXPECT_THAT(order, ElementsAre(11, 8, 9, 6, 7, 5, 3, 0, 1, 10, 4, 2));
        EXPECT_THAT(pass.ready_order(), ElementsAreArray(order));
        for (std::size_t k = 0; k < when_ready.size(); ++k)
            EXPECT_THAT(pass.parameters()[k].gradient, ElementsAreArray(when_ready[k])) << k;
    }
}

// A 1x1 convolution whose weights feel whatever gradient comes back through what follows.
std::size_t front(Network& network, std::int64_t channels) {
    return convolution(network, 0, network.input[2], channels, {1, 1}, true);
}

Network image_network(const Shape& input) {
    Network network{input, {}};
    network.add("image", Input{}, {});
    return network;
}

TEST(Gradients, ConvolutionWithDilationGroupsAndDepthwise) {
    Network network = image_network({7, 8, 4});
    std::size_t x = front(network, 6);
    x = network.add("grouped", Convolution{{3, 2, 1, 1, 1, 0, 2, 1, 2, 3}, 2}, {x},
                    {Tensor({3, 2, 3, 4}), Tensor({4})});
    x = network.add("depthwise", Convolution{{3, 3, 2, 1, 1, 1, 1, 1}, 4}, {x},
                    {Tensor({3, 3, 1, 4}), Tensor({4})});
    x = network.add("multiplied", Convolution{{2, 2, 1, 1, 0, 1, 1, 0}, 4}, {x}, {Tensor({2, 2, 1, 8})});
    check_gradients(network, 3, 11);
}

TEST(Gradients, EveryActivation) {
    const Function functions[] = {{FunctionKind::identity},
                                  {FunctionKind::relu},
                                  {FunctionKind::clip, -0.4F, 0.7F},
                                  {FunctionKind::leaky_relu, 0.2F},
                                  {FunctionKind::sigmoid},
                                  {FunctionKind::hard_sigmoid, 0.2F, 0.5F},
                                  {FunctionKind::hard_swish},
                                  {FunctionKind::silu},
                                  {FunctionKind::tanh},
                                  {FunctionKind::erf},
                                  {FunctionKind::gelu},
                                  {FunctionKind::exponential},
                                  {FunctionKind::absolute},
                                  {FunctionKind::elu, 1.5F, 0.8F},
                                  {FunctionKind::softplus},
                                  {FunctionKind::softsign},
                                  {FunctionKind::thresholded_relu, -5.0F}};
    std::uint64_t seed = 20;
    for (const Function& function : functions) {
        SCOPED_TRACE(name_of(function.kind));
        Network network = image_network({3, 4, 2});
        std::size_t x = convolution(network, 0, 2, 5, {3, 3, 1, 1, 1, 1, 1, 1}, true);
        x = network.add("function", Activation{function}, {x});
        convolution(network, x, 5, 3, {1, 1}, false);
        check_gradients(network, 3, ++seed);
    }
    // The root of something positive.
    Network network = image_network({2, 2, 3});
    std::size_t x = front(network, 4);
    x = network.add("sigmoid", Activation{{FunctionKind::sigmoid}}, {x});
    x = network.add("root", Activation{{FunctionKind::square_root}}, {x});
    network.add("logarithm", Activation{{FunctionKind::logarithm}}, {x});
    check_gradients(network, 2, 40);
}

TEST(Gradients, ParametricReluWithOneSlopeAndOnePerChannel) {
    Network network = image_network({3, 3, 2});
    std::size_t x = front(network, 4);
    x = network.add("each", ParametricRelu{}, {x}, {Tensor({4})});
    x = convolution(network, x, 4, 3, {2, 2}, true);
    network.add("one", ParametricRelu{}, {x}, {Tensor({1})});
    check_gradients(network, 3, 41);
}

TEST(Gradients, LayerAndGroupNormalisation) {
    Network network = image_network({4, 3, 3});
    std::size_t x = front(network, 6);
    x = network.add("groups", GroupNormalisation{.groups = 3}, {x}, {Tensor({6}), Tensor({6})});
    x = convolution(network, x, 6, 4, {2, 2}, true);
    x = network.add("channels", LayerNormalisation{}, {x}, {Tensor({4}), Tensor({4})});
    x = convolution(network, x, 4, 4, {1, 1}, true);
    x = network.add("rows", LayerNormalisation{.epsilon = 1e-3F}, {x}, {Tensor({2, 4}), Tensor({2, 4})});
    network.add("instances", GroupNormalisation{.groups = 4}, {x}, {Tensor({4}), Tensor({4})});
    check_gradients(network, 3, 42);
}

TEST(Gradients, FixedBatchNormalisationKeepsItsStatistics) {
    Network network = image_network({4, 3, 3});
    std::size_t x = front(network, 5);
    const Tensor mean({5}, std::vector<float>{0.1F, -0.2F, 0.0F, 0.3F, 1.0F});
    const Tensor variance({5}, std::vector<float>{1.0F, 0.5F, 2.0F, 0.2F, 1.5F});
    x = network.add("fixed", BatchNormalisation{.fixed = true}, {x},
                    {Tensor({5}), Tensor({5}), mean, variance});
    x = network.add("relu", relu(), {x});
    convolution(network, x, 5, 2, {1, 1}, false);
    check_gradients(network, 3, 43);
}

TEST(Gradients, SoftmaxAndItsLogarithmOnEveryAxis) {
    for (std::int64_t axis = 0; axis < 3; ++axis)
        for (const bool logarithm : {false, true}) {
            Network network = image_network({3, 4, 2});
            std::size_t x = front(network, 5);
            x = network.add("softmax", Softmax{axis, logarithm}, {x});
            convolution(network, x, 5, 2, {1, 1}, true);
            check_gradients(network, 2, 50 + static_cast<std::uint64_t>(axis));
        }
}

TEST(Gradients, ArithmeticWithBroadcasting) {
    const ArithmeticKind kinds[] = {
        ArithmeticKind::add,   ArithmeticKind::subtract, ArithmeticKind::multiply, ArithmeticKind::divide,
        ArithmeticKind::power, ArithmeticKind::maximum,  ArithmeticKind::minimum};
    // Operands of one image, repeated along different dimensions.
    const Shape shapes[] = {{3, 4, 5}, {5}, {1, 4, 1}, {3, 1, 5}, {1}, {3, 4, 1}};
    std::uint64_t seed = 60;
    for (const ArithmeticKind kind : kinds)
        for (const Shape& shape : shapes)
            for (const bool swapped : {false, true}) {
                SCOPED_TRACE(fmt::format("{} kind {}", to_string(shape), static_cast<int>(kind)));
                Network network = image_network({3, 4, 2});
                // Positive, so that powers and quotients are smooth.
                const auto positive = [&](std::size_t from) {
                    const std::size_t s = network.add(fmt::format("s{}", network.nodes.size()),
                                                      Activation{{FunctionKind::sigmoid}}, {from});
                    const std::size_t half =
                        network.add(fmt::format("half{}", network.nodes.size()), Constant{.trained = false},
                                    {}, {Tensor({1}, std::vector<float>{0.5F})});
                    return network.add(fmt::format("p{}", network.nodes.size()), sum_of_two(), {s, half});
                };
                std::size_t a = positive(front(network, 5));
                std::size_t b = positive(network.add("constant", Constant{}, {}, {Tensor(shape)}));
                if (swapped) std::swap(a, b);
                network.add("arithmetic", Arithmetic{kind}, {a, b});
                check_gradients(network, 2, ++seed);
            }
}

TEST(Gradients, BothOperandsOfArithmeticMayBeOneValue) {
    Network network = image_network({2, 3, 2});
    std::size_t x = front(network, 3);
    x = network.add("square", Arithmetic{ArithmeticKind::multiply}, {x, x});
    x = network.add("twice", sum_of_two(), {x, x});
    const std::size_t nothing = network.add("nothing", Arithmetic{ArithmeticKind::subtract}, {x, x});
    const std::size_t both = network.add("both", Concatenate{.axis = 1}, {x, nothing});
    network.add("end", Slice{{{0, 1, 2}, {1, 2, 3}, {2, -1, 3}}}, {both});
    check_gradients(network, 2, 140);
}

TEST(Gradients, MatrixProductsOfManyHeads) {
    Network network = image_network({4, 3, 2});
    const std::size_t a = front(network, 5);
    const std::size_t b = convolution(network, 0, 2, 3, {1, 1}, true);
    const std::size_t turned = network.add("turned", Reshape{{4, 3, 3}}, {b});
    const std::size_t first = network.add("first", Transpose{{0, 2, 1}}, {a});
    std::size_t x = network.add("product", MatrixProduct{}, {first, turned});
    x = network.add("square", MatrixProduct{}, {x, network.add("other", Transpose{{0, 2, 1}}, {x})});
    check_gradients(network, 2, 141);
}

TEST(Gradients, ReductionsOverEveryChoiceOfDimensions) {
    const std::vector<std::int64_t> choices[] = {{0}, {1}, {2}, {0, 1}, {1, 2}, {0, 2}, {0, 1, 2}};
    std::uint64_t seed = 150;
    for (const ReductionKind kind : {ReductionKind::mean, ReductionKind::sum, ReductionKind::maximum})
        for (const auto& axes : choices)
            for (const bool keep : {false, true}) {
                Network network = image_network({3, 4, 2});
                const std::size_t x = front(network, 3);
                network.add("reduced", Reduction{kind, axes, keep}, {x});
                check_gradients(network, 2, ++seed);
            }
}

TEST(Gradients, EverythingThatMovesElements) {
    const Operator moves[] = {Slice{{{2, -1, 3}, {0, 2, 2}, {1, 1, 2}}},
                              Padding{{1, 0, 2}, {0, 3, 1}, PaddingKind::constant, 0.5F},
                              Padding{{1, 2, 0}, {2, 1, 0}, PaddingKind::edge},
                              Padding{{2, 1, 0}, {1, 3, 0}, PaddingKind::reflect},
                              Transpose{{2, 0, 1}},
                              Transpose{{1, 0, 2}},
                              Reshape{{6, 6}},
                              Gather{1, {3, 0, 0, 2}},
                              Flatten{}};
    std::uint64_t seed = 200;
    for (const Operator& op : moves) {
        SCOPED_TRACE(operator_name(op));
        Network network = image_network({3, 4, 2});
        const std::size_t x = front(network, 3);
        const std::size_t moved = network.add("moved", op, {x});
        check_gradients(network, 2, ++seed);
        // What is moved is used elsewhere as well, so that its gradient is a sum.
        const std::size_t flat = network.add("flat", Flatten{}, {x});
        const std::size_t beside = network.add("beside", Flatten{}, {moved});
        network.add("both", Concatenate{0}, {flat, beside});
        check_gradients(network, 2, ++seed);
    }
    for (std::int64_t axis = 0; axis < 3; ++axis) {
        Network network = image_network({3, 3, 3});
        const std::size_t a = front(network, 3);
        const std::size_t b = convolution(network, 0, 3, 3, {1, 1}, true);
        network.add("joined", Concatenate{axis}, {a, 0, b, a});
        check_gradients(network, 2, ++seed);
    }
}

TEST(Gradients, PoolingThatRoundsUp) {
    Network network = image_network({8, 7, 2});
    std::size_t x = front(network, 3);
    x = network.add("max", MaxPooling{{3, 2, 2, 2, 1, 0, 0, 1, 1, 1, true}}, {x});
    x = convolution(network, x, 3, 3, {1, 1}, true);
    x = network.add("average", AveragePooling{{2, 3, 3, 2, 1, 1, 0, 1, 1, 1, true}, true}, {x});
    network.add("average2", AveragePooling{{2, 2, 3, 3, 0, 0, 0, 0, 1, 1, true}, false}, {x});
    check_gradients(network, 3, 230);
}

TEST(Gradients, DenseLayersAndConstantsOverTokens) {
    Network network{{5, 6}, {}};
    std::size_t x = network.add("tokens", Input{}, {});
    x = dense(network, x, 6, 70);
    x = network.add("relu", relu(), {x});
    x = dense(network, x, 70, 9);
    const std::size_t token = network.add("class", Constant{}, {}, {Tensor({1, 9})});
    network.add("joined", Concatenate{.axis = 0}, {token, x});
    check_gradients(network, 4, 231);
}

TEST(Gradients, AResidualNetworkWithAHead) {
    Network network = residual_backbone({.widths = {4, 6}, .blocks = {2}, .stem_stride = 2}, {10, 9, 3});
    append_head(network, {.hidden = {5}}, 3);
    check_gradients(network, 4, 5);
}

TEST(Gradients, APlainNetwork) {
    Network network = plain_backbone({.widths = {4, 5}}, {9, 8, 2});
    append_head(network, {}, 3);
    check_gradients(network, 4, 240);
}

TEST(Gradients, ADenselyConnectedNetwork) {
    Network network = densely_connected_backbone({.stem_width = 4, .growth = 3, .layers = {2, 2}}, {8, 8, 2});
    append_head(network, {}, 3);
    check_gradients(network, 3, 241);
}

TEST(Gradients, AnInvertedResidualNetworkWithSqueezeAndExcitation) {
    Network network = inverted_residual_backbone(
        {.stem_width = 4,
         .stages = {{.width = 4, .expansion = 1, .activation = FunctionKind::relu},
                    {.width = 5, .blocks = 2, .stride = 2, .expansion = 2, .kernel = 5}},
         .last_width = 6},
        {12, 12, 3});
    append_head(network, {}, 3);
    check_gradients(network, 4, 242);
}

TEST(Gradients, AVisionTransformer) {
    Network network =
        vision_transformer_backbone({.patch = 4, .width = 8, .depth = 2, .heads = 2}, {8, 12, 3});
    append_head(network, {}, 3);
    check_gradients(network, 3, 243);
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
