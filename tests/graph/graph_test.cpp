// Networks as data: shapes, boundaries, random weights, and networks made from networks.
#include "graph/small_network.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/layer_table.hpp"
#include "jevrin/graph/operator_description.hpp"
#include "jevrin/graph/operator_table.hpp"
#include "jevrin/graph/rewriting.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

#include <cmath>
#include <map>

namespace jevrin {

using namespace operators;

namespace {

using test::message_of;
using test::outputs_of;
using test::random_tensor;
using test::small_network;
using testing::HasSubstr;

TEST(Graph, ShapesFollowFromTheLayers) {
    const Network network =
        residual_backbone({.widths = {8, 16}, .blocks = {1}, .stem_stride = 2}, {33, 32, 3});
    const auto shapes = infer_shapes(network);
    EXPECT_EQ(shapes[find_boundary(network, "stem.relu")], (Shape{17, 16, 8}));
    EXPECT_EQ(shapes[find_boundary(network, "stage2.block1.relu2")], (Shape{9, 8, 16}));
    EXPECT_EQ(shapes.back(), (Shape{16}));
    EXPECT_THAT(stage_names(network), testing::ElementsAre("stem", "stage1", "stage2", "pool"));
    EXPECT_EQ(parameter_count(residual_backbone({.widths = {2}, .blocks = {1}}, {4, 4, 1})),
              9 * 2 + 4 + 2 * (9 * 2 * 2 + 4));
    EXPECT_EQ(
        multiplication_count(residual_backbone({.widths = {2}, .blocks = {1}, .stem_stride = 1}, {4, 4, 1})),
        16 * 9 * 2 + 2 * 16 * 9 * 4);
}

TEST(Graph, AClashNamesTheLayerAndBothSides) {
    Network network{{8, 8, 3}, {}};
    const std::size_t x = network.add("image", Input{}, {});
    network.add("first", Convolution{{3, 3}}, {x}, {Tensor({3, 3, 4, 8})});
    EXPECT_THAT(message_of<InputError>([&] { infer_shapes(network); }),
                testing::AllOf(HasSubstr("'first'"), HasSubstr("4 channels"), HasSubstr("gets 3")));
    Network flat{{8, 8, 3}, {}};
    flat.add("classes", Dense{}, {flat.add("image", Input{}, {})}, {Tensor({192, 2})});
    EXPECT_THAT(message_of<InputError>([&] { infer_shapes(flat); }), HasSubstr("add a flatten"));
    Network tiny{{2, 2, 3}, {}};
    tiny.add("wide", Convolution{{5, 5}}, {tiny.add("image", Input{}, {})}, {Tensor({5, 5, 3, 1})});
    EXPECT_THAT(message_of<InputError>([&] { infer_shapes(tiny); }),
                HasSubstr("larger than the padded image 2x2"));
}

// A chain of dense layers of these names.
Network named_layers(const std::vector<std::string>& names) {
    Network network{{2}, {}};
    std::size_t x = network.add("image", Input{}, {});
    for (const std::string& name : names) x = network.add(name, Dense{}, {x}, {Tensor({2, 2})});
    find_stages(network);
    return network;
}

TEST(Stages, AModuleAroundEverythingIsNone) {
    const Network network =
        named_layers({"net/first/a/Gemm", "/net/first/first.b/Gemm", "net.second.Gemm", "net/head/Gemm"});
    EXPECT_THAT(stage_names(network), testing::ElementsAre("net.first", "net.second", "net.head"));
    EXPECT_EQ(network.nodes[2].module, "net.first.b");
    EXPECT_EQ(find_boundary(network, "net.second"), 3U);
    EXPECT_EQ(find_boundary(network, "second"), 3U);
    EXPECT_EQ(find_end(network, "net.first"), 2U);
}

TEST(Stages, WhatNothingPlacesStandsInTheModuleAroundWhatItReads) {
    Network network{{2}, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = network.add("net/first/one/Gemm", Dense{}, {x}, {Tensor({2, 2})});
    x = network.add("Relu_1", Activation{{FunctionKind::relu}}, {x});
    x = network.add("Relu_2", Activation{{FunctionKind::tanh}}, {x});
    x = network.add("net/second/Gemm", Dense{}, {x}, {Tensor({2, 2})});
    network.add("net/third/Gemm", Dense{}, {x}, {Tensor({2, 2})});
    find_stages(network);
    EXPECT_EQ(network.nodes[1].module, "net.first.one");
    for (const std::size_t i : {2U, 3U}) {
        EXPECT_EQ(network.nodes[i].module, "net.first");
        EXPECT_EQ(network.nodes[i].stage, "net.first");
    }
    EXPECT_EQ(network.nodes[4].module, "net.second");
}

// A block ends where the resolution changes, or before what is weighted behind a sum.
TEST(Stages, WithoutNamesAreTheBlocksThatTheNetworkShows) {
    const auto built = [](const char* first, const char* second) {
        Network network{{8, 8, 3}, {}};
        const std::size_t image = network.add("image", Input{}, {});
        const Convolution same{{.kernel_height = 3,
                                .kernel_width = 3,
                                .pad_top = 1,
                                .pad_left = 1,
                                .pad_bottom = 1,
                                .pad_right = 1}};
        const std::size_t stem = network.add(first, same, {image}, {Tensor({3, 3, 3, 4})});
        const std::size_t relu = network.add("n2", Activation{{FunctionKind::relu}}, {stem});
        const std::size_t inner = network.add(second, same, {relu}, {Tensor({3, 3, 4, 4})});
        const std::size_t sum = network.add("n4", Arithmetic{ArithmeticKind::add}, {inner, relu});
        const std::size_t next = network.add("n5", same, {sum}, {Tensor({3, 3, 4, 4})});
        const std::size_t pool = network.add("n6", GlobalAveragePooling{}, {next});
        network.add("n7", Dense{}, {pool}, {Tensor({4, 2})});
        find_stages(network);
        std::vector<std::string> modules;
        for (std::size_t i = 1; i < network.nodes.size(); ++i) modules.push_back(network.nodes[i].module);
        return modules;
    };
    const std::vector<std::string> blocks = {"block1", "block1", "block1", "block1",
                                             "block2", "block3", "block3"};
    EXPECT_EQ(built("n1", "n3"), blocks);
    // Where names place half of the weighted layers they are believed.
    EXPECT_EQ(built("net/n1", "n3"), blocks);
    EXPECT_EQ(built("net/n1", "net/n3")[2], "net");
}

TEST(Stages, OfManyModulesAreWhatTheirFirstWordsSay) {
    std::vector<std::string> names;
    for (int block = 1; block <= 13; ++block)
        for (const char* part : {"expand", "project"})
            names.push_back(fmt::format("block_{}_{}/Gemm", block, part));
    const std::vector<std::string> stages = stage_names(named_layers(names));
    ASSERT_EQ(stages.size(), 13U);
    EXPECT_EQ(stages.front(), "block_1");
    EXPECT_EQ(stages.back(), "block_13");
    // With fewer, each module is one.
    names.resize(4);
    EXPECT_THAT(stage_names(named_layers(names)), testing::ElementsAre("block_1_expand", "block_1_project",
                                                                       "block_2_expand", "block_2_project"));
}

TEST(Graph, AnUnknownBoundaryListsTheStages) {
    EXPECT_THAT(
        message_of<InputError>([&] { find_boundary(small_network(), "stagge2"); }),
        testing::AllOf(HasSubstr("did you mean 'stage2'"), HasSubstr("stem, stage1, stage2, pool, head")));
}

// Whatever a network held before, of one that was read from a file too.
TEST(Initialise, NothingRemainsOfFormerParameters) {
    Network network{{4, 4, 3}, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = network.add("convolution", Convolution{{3, 3}}, {x}, {Tensor({3, 3, 3, 4}), Tensor({4})});
    x = network.add("normalisation", BatchNormalisation{}, {x},
                    {Tensor({4}), Tensor({4}), Tensor({4}), Tensor({4})});
    x = network.add("slope", ParametricRelu{}, {x}, {Tensor({4})});
    const std::size_t fixed = network.add("fixed", Constant{.trained = false}, {}, {Tensor({4})});
    const std::size_t trained = network.add("trained", Constant{}, {}, {Tensor({4})});
    x = network.add("shifted", Arithmetic{ArithmeticKind::add}, {x, fixed});
    network.add("shifted again", Arithmetic{ArithmeticKind::add}, {x, trained});
    for (Node& node : network.nodes)
        for (Tensor& parameter : node.parameters) parameter.fill(7.0F);
    initialise(network, 0, 1);
    const auto all_of = [&](std::size_t node, std::size_t parameter, float expected) {
        for (const float value : network.nodes[node].parameters[parameter].values())
            EXPECT_EQ(value, expected) << network.nodes[node].name << parameter;
    };
    for (const float value : network.nodes[1].parameters[0].values()) EXPECT_LT(std::abs(value), 2.0F);
    all_of(1, 1, 0.0F);   // bias
    all_of(2, 0, 1.0F);   // scale
    all_of(2, 1, 0.0F);   // shift
    all_of(2, 2, 0.0F);   // mean
    all_of(2, 3, 1.0F);   // variance
    all_of(3, 0, 0.25F);  // slope
    all_of(fixed, 0, 7.0F);
    for (const float value : network.nodes[trained].parameters[0].values()) EXPECT_LT(std::abs(value), 0.2F);
}

TEST(Initialise, WeightsHaveThePublishedDeviationAndDependOnTheSeed) {
    Network network = residual_backbone({.widths = {64}, .blocks = {1}}, {8, 8, 3});
    initialise(network, 0, 3);
    const Tensor& weight = network.nodes[find_boundary(network, "stage1.block1.convolution1")].parameters[0];
    double squares = 0;
    for (const float w : weight.values()) squares += static_cast<double>(w) * w;
    EXPECT_NEAR(std::sqrt(squares / static_cast<double>(weight.size())), std::sqrt(2.0 / (9 * 64)), 1e-3);
    Network again = network;
    initialise(again, 0, 4);
    EXPECT_NE(again.nodes[1].parameters[0].data()[0], network.nodes[1].parameters[0].data()[0]);
    initialise(again, 0, 3);
    EXPECT_EQ(again.nodes[1].parameters[0].data()[0], network.nodes[1].parameters[0].data()[0]);
}

TEST(Rewrite, DividingAndJoiningGivesTheSameBits) {
    const Network network = small_network();
    const Tensor input = random_tensor({3 * 8 * 8 * 3}, 1);
    const std::vector<float> whole = outputs_of(network, 3, input);
    for (const char* boundary : {"stage1", "stage2", "head"}) {
        const NetworkHalves split = cut_network(network, find_boundary(network, boundary));
        const std::vector<float> features = outputs_of(split.frozen, 3, input);
        EXPECT_EQ(
            outputs_of(split.trained, 3, Tensor({static_cast<std::int64_t>(features.size())}, features)),
            whole)
            << boundary;
        EXPECT_EQ(outputs_of(join_halves(split.frozen, split.trained), 3, input), whole) << boundary;
    }
}

TEST(Rewrite, ACutThroughABlockIsRefused) {
    const Network network = small_network();
    EXPECT_THAT(message_of<InputError>(
                    [&] { cut_network(network, find_boundary(network, "stage2.block1.convolution2")); }),
                HasSubstr("2 values cross"));
}

TEST(Rewrite, FoldingKeepsTheFunctionWithFewerSteps) {
    const Network network = small_network();
    const Network folded = rewrite(network, RewritingStage::before_inference);
    EXPECT_LT(folded.nodes.size(), network.nodes.size());
    for (const Node& node : folded.nodes) {
        EXPECT_FALSE(std::holds_alternative<BatchNormalisation>(node.op)) << node.name;
        const auto* sum = std::get_if<Arithmetic>(&node.op);
        EXPECT_TRUE(sum == nullptr || sum->rectified) << node.name;
    }
    // Without its convolution in the same network, normalisation runs as a step of its own: the reference.
    const Tensor input = random_tensor({2 * 8 * 8 * 3}, 1);
    std::vector<float> reference;
    {
        Tensor value = input;
        for (std::size_t cut = 1; cut < 4; ++cut) {
            Network one{cut == 1 ? Shape{8, 8, 3} : Shape{8, 8, 4}, {}};
            Node node = network.nodes[cut];
            node.inputs = {one.add("x", Input{}, {})};
            one.nodes.push_back(node);
            const std::vector<float> out = outputs_of(one, 2, value);
            value = Tensor({static_cast<std::int64_t>(out.size())}, out);
        }
        reference.assign(value.values().begin(), value.values().end());
    }
    Network stem = network;
    stem.nodes.resize(4);
    const std::vector<float> quick = outputs_of(stem, 2, input);
    ASSERT_EQ(quick.size(), reference.size());
    for (std::size_t i = 0; i < quick.size(); ++i) ASSERT_NEAR(quick[i], reference[i], 1e-5);
}

TEST(Rewriting, EveryPassKeepsTheFunctionAndTheNameOfTheOutput) {
    const Network network = small_network();
    const Tensor input = random_tensor({2 * 8 * 8 * 3}, 1);
    const std::vector<float> before = outputs_of(network, 2, input);
    for (const Rewrite& pass : rewrites()) {
        const Network after = pass.apply(network);
        EXPECT_LE(after.nodes.size(), network.nodes.size()) << pass.name;
        EXPECT_EQ(after.nodes.front().name, network.nodes.front().name) << pass.name;
        const std::vector<float> outputs = outputs_of(after, 2, input);
        ASSERT_EQ(outputs.size(), before.size()) << pass.name;
        for (std::size_t i = 0; i < outputs.size(); ++i)
            EXPECT_NEAR(outputs[i], before[i], 1e-5) << pass.name;
    }
}

TEST(Rewriting, AValueThatIsReadTwiceStaysWhereItIs) {
    // The normalised value is needed as it is beside its ReLU, so only the normalisation fuses.
    Network network{{8, 8, 3}, {}};
    const std::size_t x = network.add("image", Input{}, {});
    const std::size_t c = network.add("c", Convolution{}, {x}, {random_tensor({1, 1, 3, 4}, 1)});
    const std::size_t n =
        network.add("n", BatchNormalisation{}, {c},
                    {random_tensor({4}, 2), random_tensor({4}, 3), random_tensor({4}, 4), Tensor({4})});
    network.nodes[n].parameters[3].fill(0.5F);
    const std::size_t r = network.add("r", relu(), {n});
    network.add("sum", sum_of_two(), {n, r});
    const Network after = rewrite(network, RewritingStage::before_inference);
    ASSERT_EQ(after.nodes.size(), 4U);
    EXPECT_EQ(after.nodes[2].name, "r");
    EXPECT_EQ(std::get<Convolution>(after.nodes[1].op).activation.kind, FunctionKind::identity);
}

TEST(OperatorDescriptions, SayWhatParametersAre) {
    EXPECT_EQ(describe(Operator{Convolution{}}).name, "convolution");
    EXPECT_TRUE(describe(Operator{Dense{}}).has_weight());
    EXPECT_FALSE(describe(Operator{ParametricRelu{}}).has_weight());
    EXPECT_EQ(parameter_kind(BatchNormalisation{}, 3), ParameterKind::statistic);
    EXPECT_EQ(parameter_kind(Constant{.trained = false}, 0), ParameterKind::statistic);
    EXPECT_EQ(role_name(describe(Operator{LayerNormalisation{}}).roles[1]), "shift");
}

TEST(OperatorTable, FindsWhatAFamilyPutInAndNamesWhatIsMissing) {
    OperatorTable<int (*)()> table("answer");
    table.put<Dense>([] { return 1; });
    table.put<Softmax>([] { return 2; });
    EXPECT_EQ(table.at(Dense{})(), 1);
    EXPECT_EQ(table.at(Softmax{})(), 2);
    try {
        table.at(Gather{});
        FAIL();
    } catch (const std::logic_error& error) {
        EXPECT_STREQ(
            error.what(),
            fmt::format("there is no answer for the operator '{}'", describe(Gather{}).name).c_str());
    }
}

TEST(LayerTable, RowsReadTheRowsOfWhatTheirNodesRead) {
    Network network{{8, 8, 3}, {}};
    const std::size_t image = network.add("image", Input{}, {});
    const std::size_t first = network.add("first", Convolution{{3, 3}}, {image}, {Tensor({3, 3, 3, 4})});
    const std::size_t relu = network.add("relu", Activation{{FunctionKind::relu}}, {first});
    const std::size_t left = network.add("left", Convolution{{1, 1}}, {relu}, {Tensor({1, 1, 4, 4})});
    const std::size_t right = network.add("right", Convolution{{1, 1}}, {relu}, {Tensor({1, 1, 4, 4})});
    const std::size_t sum = network.add("sum", Arithmetic{ArithmeticKind::add}, {left, right});
    network.add("last", Convolution{{1, 1}}, {sum}, {Tensor({1, 1, 4, 2})});
    std::map<std::string, std::vector<std::string>> reads;
    const std::vector<LayerRow> rows = layer_table(network);
    for (const LayerRow& row : rows)
        for (const std::size_t from : row.reads) reads[row.name].push_back(rows.at(from).name);
    using Names = std::vector<std::string>;
    EXPECT_EQ(reads,
              (std::map<std::string, Names>{
                  {"left", {"first"}}, {"right", {"first"}}, {"sum", {"left", "right"}}, {"last", {"sum"}}}));
}

TEST(LayerTable, StagesAddUpTheirLayers) {
    const auto layer = [](const char* stage, std::int64_t width, std::int64_t parameters, bool trains) {
        return LayerRow{.stage = stage,
                        .shape = {width},
                        .parameters = parameters,
                        .multiplications = 10 * parameters,
                        .bytes = 4 * width,
                        .trains = trains};
    };
    const auto stages = stage_table({layer("stem", 8, 100, false), layer("stem", 6, 50, false),
                                     layer("head", 3, 20, true), layer("stem", 5, 7, true)});
    ASSERT_EQ(stages.size(), 2U);
    EXPECT_EQ(stages[0].stage, "stem");
    EXPECT_EQ(stages[0].layers, 3);
    EXPECT_EQ(stages[0].shape, (Shape{5}));
    EXPECT_EQ(stages[0].parameters, 157);
    EXPECT_EQ(stages[0].multiplications, 1570);
    EXPECT_EQ(stages[0].bytes, 4 * 19);
    EXPECT_EQ(stages[0].frozen, 150);
    EXPECT_EQ(stages[0].trained, 7);
    EXPECT_EQ(stages[1].layers, 1);
    EXPECT_EQ(stages[1].trained, 20);
    EXPECT_EQ(stages[1].frozen, 0);
}

}  // namespace
}  // namespace jevrin
