// Steps that compute several nodes at once: batch normalisation with what follows it, and attention.
#include "execution/gradient_check.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/architecture.hpp"

#include <gmock/gmock.h>

#include <set>

namespace jevrin {

using namespace operators;

namespace {

using test::check_gradients;
using test::random_tensor;
using testing::Contains;
using testing::Not;

// The names of the nodes whose values a training pass computes.
std::set<std::string> computed_values(Network network) {
    test::randomise(network, 5);
    TrainingPass pass(network, 2);
    const Tensor input = random_tensor({2 * element_count(network.input)}, 3);
    const std::vector<std::int64_t> items(2, 0);
    std::set<std::string> names;
    pass.forward(2, input.values(), {1, 1, items.data()},
                 [&](std::size_t node, std::span<const float>) { names.insert(network.nodes[node].name); });
    return names;
}

std::size_t normalised(Network& network, const std::string& name, std::size_t from, std::int64_t channels) {
    const std::size_t x = network.add(name + ".convolution", Convolution{.window = {1, 1, 1, 1, 0, 0, 0, 0}},
                                      {from}, {Tensor({1, 1, channels, channels})});
    return network.add(name, BatchNormalisation{}, {x},
                       {Tensor({channels}), Tensor({channels}), Tensor({channels}),
                        Tensor({channels}, std::vector<float>(static_cast<std::size_t>(channels), 1.0F))});
}

std::size_t function(Network& network, const std::string& name, std::size_t from, const Function& f) {
    return network.add(name, Activation{f}, {from});
}

TEST(JoinedNormalisation, TakesAnActivationIntoItsStep) {
    for (const Function& f : {Function{FunctionKind::hard_swish}, Function{FunctionKind::clip, 0.0F, 0.5F},
                              Function{FunctionKind::silu}, Function{FunctionKind::sigmoid}}) {
        Network network{{4, 5, 11}, {}};
        const std::size_t image = network.add("image", Input{}, {});
        const std::size_t x = function(network, "function", normalised(network, "norm", image, 11), f);
        normalised(network, "last", x, 11);
        EXPECT_THAT(computed_values(network), Not(Contains("norm")));
        check_gradients(network, 3, 7);
    }
}

TEST(JoinedNormalisation, TakesASumAndItsReluIntoItsStep) {
    for (const bool rectified : {false, true})
        for (const bool norm_first : {false, true}) {
            Network network{{3, 4, 9}, {}};
            const std::size_t image = network.add("image", Input{}, {});
            const std::size_t before =
                function(network, "before", normalised(network, "first", image, 9), {FunctionKind::relu});
            const std::size_t norm = normalised(network, "norm", before, 9);
            std::size_t x = network.add("sum", Arithmetic{},
                                        norm_first ? std::vector{norm, before} : std::vector{before, norm});
            if (rectified) x = function(network, "relu", x, {FunctionKind::relu});
            normalised(network, "last", x, 9);
            const std::set<std::string> values = computed_values(network);
            EXPECT_THAT(values, Not(Contains("norm")));
            EXPECT_EQ(values.contains("sum"), !rectified);
            check_gradients(network, 3, 8);
        }
}

TEST(JoinedNormalisation, AnActivationWithoutASlopeFromItsOutputStaysBehindTheSum) {
    Network network{{3, 4, 9}, {}};
    const std::size_t image = network.add("image", Input{}, {});
    const std::size_t first = normalised(network, "first", image, 9);
    const std::size_t norm = normalised(network, "norm", first, 9);
    const std::size_t sum = network.add("sum", Arithmetic{}, {norm, first});
    const std::size_t swish = function(network, "swish", sum, {FunctionKind::hard_swish});
    normalised(network, "last", swish, 9);
    const std::set<std::string> values = computed_values(network);
    EXPECT_THAT(values, Not(Contains("norm")));
    EXPECT_THAT(values, Contains("sum"));
    check_gradients(network, 3, 9);
}

TEST(JoinedNormalisation, TheLaterOfTwoTermsTakesTheSum) {
    Network network{{3, 4, 9}, {}};
    const std::size_t image = network.add("image", Input{}, {});
    const std::size_t first =
        function(network, "before", normalised(network, "first", image, 9), {FunctionKind::relu});
    const std::size_t main = normalised(network, "main", first, 9);
    const std::size_t shortcut = normalised(network, "shortcut", first, 9);
    const std::size_t sum = network.add("sum", Arithmetic{}, {main, shortcut});
    const std::size_t x = function(network, "relu", sum, {FunctionKind::relu});
    normalised(network, "last", x, 9);
    const std::set<std::string> values = computed_values(network);
    EXPECT_THAT(values, Contains("main"));
    EXPECT_THAT(values, Not(Contains("shortcut")));
    check_gradients(network, 3, 10);
}

TEST(JoinedNormalisation, AValueMayBeAddedToItsOwnNormalisationAndSumsMayBroadcast) {
    for (const bool broadcast : {false, true}) {
        Network network{{3, 4, 6}, {}};
        const std::size_t image = network.add("image", Input{}, {});
        const std::size_t x = network.add("convolution", Convolution{.window = {1, 1, 1, 1, 0, 0, 0, 0}},
                                          {image}, {Tensor({1, 1, 6, 6})});
        const std::size_t norm = network.add("norm", BatchNormalisation{}, {x},
                                             {Tensor({6}), Tensor({6}), Tensor({6}), Tensor({6})});
        const std::size_t bias = broadcast ? network.add("bias", Constant{}, {}, {Tensor({6})}) : x;
        const std::size_t sum = network.add("sum", Arithmetic{}, {bias, norm});
        normalised(network, "last", function(network, "relu", sum, {FunctionKind::relu}), 6);
        EXPECT_EQ(computed_values(network).contains("norm"), broadcast);
        check_gradients(network, 3, 11);
    }
}

struct Sizes {
    std::int64_t tokens = 7;
    std::int64_t heads = 2;
    std::int64_t depth = 3;

    std::int64_t width() const { return heads * depth; }
};

std::size_t dense(Network& network, const std::string& name, std::size_t from, std::int64_t in,
                  std::int64_t out) {
    return network.add(name, Dense{}, {from}, {Tensor({in, out}), Tensor({out})});
}

std::size_t number(Network& network, const std::string& name, float value) {
    return network.add(name, Constant{.trained = false}, {}, {Tensor({1}, std::vector{value})});
}

// Whether something stands between the softmax and the mix, so that no step computes both.
enum class InParts { no, yes };

// Scores, their softmax, the mix of the values and an output layer; the scores are divided by two.
void attend(Network& network, std::size_t query, std::size_t key, std::size_t value, const Sizes& s,
            InParts in_parts = InParts::no) {
    std::size_t x = network.add("scores", MatrixProduct{}, {query, key});
    x = network.add("halved", Arithmetic{ArithmeticKind::divide}, {x, number(network, "two", 2.0F)});
    x = network.add("softmax", Softmax{.axis = 2}, {x});
    if (in_parts == InParts::yes) x = function(network, "between", x, {FunctionKind::identity});
    x = network.add("mix", MatrixProduct{}, {x, value});
    x = network.add("by_token", Transpose{{1, 0, 2}}, {x});
    x = network.add("joined", Reshape{{s.tokens, s.width()}}, {x});
    dense(network, "output", x, s.width(), 4);
}

// One projection whose parts are taken by their place, as exporters write it.
Network exported_attention(const Sizes& s, InParts in_parts = InParts::no) {
    Network network{{s.tokens, 5}, {}};
    std::size_t x = network.add("tokens", Input{}, {});
    x = dense(network, "projections", x, 5, 3 * s.width());
    x = network.add("split", Reshape{{s.tokens, 3, s.heads, s.depth}}, {x});
    x = network.add("by_part", Transpose{{1, 2, 0, 3}}, {x});
    const auto part = [&](const std::string& name, std::int64_t place) {
        const std::size_t taken = network.add(name + ".taken", Gather{.axis = 0, .places = {place}}, {x});
        return network.add(name, Reshape{{s.heads, s.tokens, s.depth}}, {taken});
    };
    const std::size_t query = part("query", 0);
    const std::size_t key = network.add("turned", Transpose{{0, 2, 1}}, {part("key", 1)});
    attend(network, query, key, part("value", 2), s, in_parts);
    return network;
}

TEST(JoinedAttention, ReadsTheHeadsOfAnExportedProjectionInPlace) {
    const Network network = exported_attention({});
    EXPECT_EQ(computed_values(network), (std::set<std::string>{"projections", "joined", "output"}));
    check_gradients(network, 3, 12);
}

// The output of a training pass, and the gradients of all parameters after it.
std::vector<float> outputs_and_gradients(Network network) {
    test::randomise(network, 18);
    TrainingPass pass(network, 2);
    const Tensor input = random_tensor({2 * element_count(network.input)}, 19);
    const std::vector<std::int64_t> items(2, 0);
    const auto output = pass.forward(2, input.values(), {1, 1, items.data()});
    std::vector<float> all(output.begin(), output.end());
    pass.backward(2, random_tensor({std::ssize(output)}, 20).values());
    for (const TrainedParameter& parameter : pass.parameters())
        all.insert(all.end(), parameter.gradient.begin(), parameter.gradient.end());
    return all;
}

TEST(JoinedAttention, ComputesLongSequencesInTilesAndAgreesWithItsParts) {
    const Sizes sizes{.tokens = 205, .heads = 2, .depth = 20};
    const Network joined = exported_attention(sizes);
    const Network parts = exported_attention(sizes, InParts::yes);
    EXPECT_THAT(computed_values(joined), Not(Contains("scores")));
    EXPECT_THAT(computed_values(parts), Contains("scores"));
    const std::vector<float> expected = outputs_and_gradients(parts);
    EXPECT_LT(test::worst_difference(outputs_and_gradients(joined), {expected.begin(), expected.end()}),
              2e-6);
}

TEST(JoinedAttention, NeedsNoRoomForTheScores) {
    Network network = exported_attention({.tokens = 64, .heads = 2, .depth = 4});
    const TrainingPass pass(network, 1);
    // The projections and the output of the attention, three numbers for each row besides.
    EXPECT_LT(pass.memory().kept_per_item, std::int64_t{2 * 64 * 64 * sizeof(float)});
}

TEST(JoinedAttention, KeysMayBeSomeOfTheTokensAndProjectionsMayBeSeparate) {
    const Sizes s;
    Network network{{s.tokens, 5}, {}};
    const std::size_t tokens = network.add("tokens", Input{}, {});
    const auto heads = [&](const std::string& name, std::int64_t count,
                           const std::vector<std::int64_t>& order) {
        std::size_t x = dense(network, name, tokens, 5, s.width());
        x = network.add(name + ".some", Slice{{{s.tokens - count, 1, count}, {0, 1, s.width()}}}, {x});
        x = network.add(name + ".heads", Reshape{{count, s.heads, s.depth}}, {x});
        return network.add(name + ".turned", Transpose{order}, {x});
    };
    const std::size_t query = heads("query", s.tokens, {1, 0, 2});
    const std::size_t key = heads("key", 4, {1, 2, 0});
    attend(network, query, key, heads("value", 4, {1, 0, 2}), s);
    EXPECT_THAT(computed_values(network), Not(Contains("scores")));
    check_gradients(network, 3, 14);
}

TEST(JoinedAttention, StaysInPartsWhereOperandsShareElementsOrOthersReadTheScores) {
    const Sizes s;
    Network network{{s.tokens, 5}, {}};
    std::size_t x = network.add("tokens", Input{}, {});
    x = dense(network, "projection", x, 5, s.width());
    x = network.add("heads", Reshape{{s.tokens, s.heads, s.depth}}, {x});
    const std::size_t by_head = network.add("by_head", Transpose{{1, 0, 2}}, {x});
    const std::size_t turned = network.add("turned", Transpose{{1, 2, 0}}, {x});
    attend(network, by_head, turned, by_head, s);
    EXPECT_THAT(computed_values(network), Contains("scores"));
    check_gradients(network, 3, 15);

    Network shown = exported_attention(s);
    std::size_t scores = 0;
    for (std::size_t i = 0; i < shown.nodes.size(); ++i)
        if (shown.nodes[i].name == "softmax") scores = i;
    const std::size_t sum =
        shown.add("sum", Reduction{.kind = ReductionKind::sum, .axes = {0, 1, 2}}, {scores});
    shown.add("both", Arithmetic{}, {shown.nodes.size() - 2, sum});
    EXPECT_THAT(computed_values(shown), Contains("softmax"));
}

TEST(JoinedAttention, GivesTheSameBitsInEveryBatchAndOnEveryNumberOfThreads) {
    Network network = exported_attention({.tokens = 197, .heads = 3, .depth = 16});
    test::randomise(network, 16);
    const std::int64_t size = element_count(network.input);
    const Tensor input = random_tensor({7 * size}, 17);
    Inference inference(network, 7);
    const auto outputs = [&](std::int64_t batch, std::int64_t first) {
        const auto result =
            inference.run(batch, input.values().subspan(static_cast<std::size_t>(first * size)));
        return std::vector<float>(result.begin(), result.end());
    };
    const int threads_before = threads();
    const std::vector<float> all = outputs(7, 0);
    for (const int count : {1, 2, 3}) {
        set_threads(count);
        EXPECT_EQ(outputs(7, 0), all);
        const std::vector<float> one = outputs(1, 3);
        EXPECT_TRUE(std::equal(one.begin(), one.end(), all.begin() + 3 * std::ssize(one)));
    }
    set_threads(threads_before);
}

}  // namespace
}  // namespace jevrin
