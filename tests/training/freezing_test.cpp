// What trains and what must not: boundaries, frozen weights and statistics, schedules of unfreezing, rates by
// stage, and the head that is solved instead of trained.
#include "jevrin/graph/freezing.hpp"

#include "small_training.hpp"
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/execution/training_pass.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/stages.hpp"
#include "jevrin/images/batches.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/checkpoint.hpp"
#include "jevrin/training/logistic_regression.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/run_memory.hpp"
#include "jevrin/training/run_trainer.hpp"

#include <cmath>
#include <map>

namespace jevrin {

using namespace operators;

namespace {

using test::message_of;
using test::random_tensor;
using testing::HasSubstr;

Network three_stages(const Shape& image = {16, 16, 3}) {
    Network network = residual_backbone({.widths = {4, 6, 8}, .blocks = {1}, .stem_stride = 1}, image);
    append_head(network, {.hidden = {5}, .dropout = 0.2}, 3);
    initialise(network, 0, 1);
    return network;
}

std::map<std::string, std::vector<float>> weights_of(const Network& network) {
    std::map<std::string, std::vector<float>> all;
    for (const Node& node : network.nodes)
        for (const Tensor& parameter : node.parameters)
            all[node.name].insert(all[node.name].end(), parameter.values().begin(), parameter.values().end());
    return all;
}

TEST(Freezing, BoundariesAreFoundByLayersAndByShare) {
    const Network network = three_stages();
    const std::size_t head = find_boundary(network, "head");
    // Counted from the end, with the convolution beside the shortcut of the last stage.
    EXPECT_EQ(network.nodes[boundary_of_last(network, head, 1)].name, "stage3.block1.shortcut.convolution");
    EXPECT_EQ(network.nodes[boundary_of_last(network, head, 3)].name, "stage3.block1.convolution1");
    EXPECT_THAT(message_of<InputError>([&] { boundary_of_last(network, head, 99); }),
                HasSubstr("has 9 weighted layers, not 99"));
    const auto share_from = [&](std::size_t node) {
        return static_cast<double>(parameter_count(network, node) - parameter_count(network, head)) /
               static_cast<double>(parameter_count(network) - parameter_count(network, head));
    };
    for (const double share : {0.05, 0.3, 0.6, 0.95}) {
        const std::size_t boundary = boundary_of_share(network, head, share);
        EXPECT_GE(share_from(boundary), share);
        EXPECT_LT(share_from(boundary + 1), std::max(share, share_from(boundary) - 1e-9));
    }
    EXPECT_EQ(boundary_of_share(network, head, 1.0), 1U);
}

TEST(Freezing, NamesOfForeignLayersAreFoundByTheirBeginning) {
    Network network{{4}, {}};
    std::size_t x = network.add("x", Input{}, {});
    for (const char* name : {"/layer1/layer1.0/fc/MatMul", "/layer1/layer1.1/fc/MatMul", "/layer2/fc/MatMul"})
        x = network.add(name, Dense{}, {x}, {Tensor({4, 4})});
    EXPECT_THAT(stage_names(network), testing::ElementsAre("layer1", "layer2"));
    EXPECT_EQ(find_boundary(network, "layer2"), 3U);
    EXPECT_EQ(find_boundary(network, "/layer1/layer1.1"), 2U);
    EXPECT_EQ(find_boundary(network, "/layer2/fc/MatMul"), 3U);
}

TEST(Freezing, GradientsOfTheTrainedPartAreThoseOfFullTraining) {
    const Tensor input = random_tensor({4, 16 * 16 * 3}, 3);
    const std::vector<std::size_t> labels = {0, 1, 2, 1};
    const std::vector<std::int64_t> items = {0, 1, 2, 3};
    // With fixed statistics everywhere, so that what lies before the boundary computes the same in both.
    Network network = three_stages();
    fix_statistics(network, 0, network.nodes.size());
    const auto gradients = [&](Network& trained, std::span<const float> from) {
        TrainingPass pass(trained, 4);
        const auto logits = pass.forward(4, from, {1, 1, items.data()});
        std::vector<float> slope(12);
        cross_entropy(3, logits, plain_targets(labels), slope);
        pass.backward(4, slope);
        std::vector<std::vector<float>> all;
        for (const TrainedParameter& p : pass.parameters())
            all.emplace_back(p.gradient.begin(), p.gradient.end());
        return all;
    };
    // Dropout is keyed by the place of its layer: compared without it.
    for (Node& node : network.nodes)
        if (auto* dropout = std::get_if<Dropout>(&node.op)) dropout->rate = 0.0;
    Network whole = network;
    const auto all = gradients(whole, input.values());
    for (const char* boundary : {"stage2.block1.convolution2", "stage3", "head"}) {
        SCOPED_TRACE(boundary);
        Network frozen = network;
        const std::size_t first = find_boundary(frozen, boundary);
        freeze_before(frozen, first);
        NetworkHalves split = cut_network(frozen, cut_before(frozen, first));
        Inference before(split.frozen, 4);
        const auto features = before.run(4, input.values());
        const std::vector<float> held(features.begin(), features.end());
        const auto part = gradients(split.trained, held);
        ASSERT_LT(part.size(), all.size());
        for (std::size_t p = 0; p < part.size(); ++p) {
            const auto& expected = all[all.size() - part.size() + p];
            ASSERT_EQ(part[p].size(), expected.size());
            float largest = 1e-3F;
            for (const float g : expected) largest = std::max(largest, std::abs(g));
            for (std::size_t i = 0; i < expected.size(); ++i)
                ASSERT_NEAR(part[p][i], expected[i], 1e-4F * largest) << p;
        }
    }
}

TEST(Freezing, FrozenNodesOfATrainingPassWorkAsInInference) {
    // Everything before the classes is frozen, normalisation and dropout included, though nothing is cut off.
    Network network = three_stages();
    for (Node& node : network.nodes)
        if (std::holds_alternative<BatchNormalisation>(node.op)) {
            node.parameters[2] = random_tensor(node.parameters[2].shape(), 5, 0.3);
            node.parameters[3].fill(0.6F);
        }
    freeze_before(network, find_boundary(network, "head.classes"));
    const auto before = weights_of(network);
    const Tensor input = random_tensor({4, 16 * 16 * 3}, 3);
    const std::vector<std::int64_t> items = {0, 1, 2, 3};
    Inference inference(network, 4);
    const auto inferred = inference.run(4, input.values());
    TrainingPass pass(network, 4);
    const auto trained = pass.forward(4, input.values(), {1, 1, items.data()});
    for (std::size_t i = 0; i < inferred.size(); ++i) EXPECT_NEAR(trained[i], inferred[i], 1e-4) << i;
    EXPECT_EQ(weights_of(network), before);
    EXPECT_EQ(pass.parameters().size(), 2U);
}

TEST(Freezing, TheMemoryOfARunCountsNoGradientOfAFrozenNode) {
    // A boundary inside a block, whose frozen beginning stays together with what is trained.
    Network network = three_stages();
    const std::size_t first = find_boundary(network, "stage2.block1.convolution2");
    ASSERT_LT(cut_before(network, first), first);
    const PassMemory memory = run_memory(network, first, KeptActivations::float32);
    freeze_before(network, first);
    const PassMemory frozen = run_memory(network, first, KeptActivations::float32);
    EXPECT_EQ(memory.fixed, frozen.fixed);
    EXPECT_EQ(memory.per_item, frozen.per_item);
    EXPECT_EQ(memory.kept_per_item, frozen.kept_per_item);
}

class FreezingRuns : public SmallTraining {
  protected:
    static TrainingSettings settings(std::int64_t epochs) {
        return {.epochs = epochs, .batch = 8, .optimiser = {.learning_rate = 0.05}};
    }
    std::unique_ptr<RunTrainer> trainer(const Network& network, std::vector<TrainingPhase> phases,
                                        std::int64_t epochs) const {
        return std::make_unique<RunTrainer>(data_, network, std::move(phases), scaling_, settings(epochs), 7);
    }
    static std::map<std::string, std::vector<float>> weights_after(RunTrainer& run, std::int64_t epochs) {
        for (std::int64_t e = 0; e < epochs; ++e) run.train_epoch();
        run.keep_as_best();
        return weights_of(run.best_network());
    }

    Network network_ = three_stages();
};

TEST_F(FreezingRuns, FrozenWeightsAndStatisticsKeepTheirBytes) {
    const auto before = weights_of(network_);
    for (const char* boundary : {"stage2.block1.convolution2", "stage3", "head"}) {
        SCOPED_TRACE(boundary);
        const std::size_t first = find_boundary(network_, boundary);
        const auto run = trainer(network_, {{1, first}}, 3);
        const auto after = weights_after(*run, 3);
        for (std::size_t i = 0; i < network_.nodes.size(); ++i) {
            const std::string& name = network_.nodes[i].name;
            if (!before.contains(name)) continue;
            if (i < first)
                EXPECT_EQ(after.at(name), before.at(name)) << name;
            else
                EXPECT_NE(after.at(name), before.at(name)) << name;
        }
    }
}

TEST_F(FreezingRuns, FixedNormalisationKeepsItsStatisticsAndTrainsTheRest) {
    Network network = network_;
    const std::size_t first = find_boundary(network, "stage3");
    fix_statistics(network, first, find_boundary(network, "head"));
    const auto run = trainer(network, {{1, first}}, 2);
    for (int e = 0; e < 2; ++e) run->train_epoch();
    run->keep_as_best();
    const Network after = run->best_network();
    const std::size_t at = find_boundary(network, "stage3.block1.normalisation1");
    for (std::size_t p = 0; p < 4; ++p) {
        const bool same = std::ranges::equal(after.nodes[at].parameters[p].values(),
                                             network.nodes[at].parameters[p].values());
        EXPECT_EQ(same, p >= 2) << p;
    }
}

TEST_F(FreezingRuns, StagesJoinAtTheirEpochAndNotBefore) {
    const std::size_t head = find_boundary(network_, "head");
    const std::size_t stage3 = find_boundary(network_, "stage3");
    const std::size_t stage2 = find_boundary(network_, "stage2");
    const auto run = trainer(network_, {{1, head}, {3, stage3}, {4, stage2}}, 5);
    const auto before = weights_of(network_);
    const auto changed = [&](const std::string& layer) {
        run->keep_as_best();
        return weights_of(run->best_network()).at(layer) != before.at(layer);
    };
    for (std::int64_t epoch = 1; epoch <= 5; ++epoch) {
        run->train_epoch();
        EXPECT_TRUE(changed("head.classes"));
        EXPECT_EQ(changed("stage3.block1.convolution1"), epoch >= 3) << epoch;
        EXPECT_EQ(changed("stage2.block1.convolution1"), epoch >= 4) << epoch;
        EXPECT_FALSE(changed("stage1.block1.convolution1"));
    }
}

TEST_F(FreezingRuns, APhaseOfItsOwnChangesNoNumber) {
    // The same boundary twice is one phase.
    const std::size_t stage3 = find_boundary(network_, "stage3");
    const auto once = weights_after(*trainer(network_, {{1, stage3}}, 4), 4);
    const auto twice = weights_after(*trainer(network_, {{1, stage3}, {3, stage3}}, 4), 4);
    EXPECT_EQ(once, twice);
}

TEST_F(FreezingRuns, AGradualRunResumesExactlyInEveryPhase) {
    const std::size_t head = find_boundary(network_, "head");
    const std::size_t stage3 = find_boundary(network_, "stage3");
    const std::vector<TrainingPhase> phases = {{1, head}, {3, stage3}};
    const auto undisturbed = weights_after(*trainer(network_, phases, 5), 5);
    for (const std::int64_t stopped_after : {1, 2, 3, 4}) {
        const auto first = trainer(network_, phases, 5);
        for (std::int64_t e = 0; e < stopped_after; ++e) first->train_epoch();
        write_checkpoint(directory_ / "c", first->state());
        const auto second = trainer(network_, phases, 5);
        second->restore(read_checkpoint(directory_ / "c"));
        EXPECT_EQ(weights_after(*second, 5 - stopped_after), undisturbed) << stopped_after;
    }
}

TEST_F(FreezingRuns, AStageLearnsAtItsShareOfTheRate) {
    Network network = network_;
    set_rate_factor(network, "stage3", 0.0);
    const std::size_t stage3 = find_boundary(network, "stage3");
    const auto after = weights_after(*trainer(network, {{1, stage3}}, 1), 1);
    EXPECT_EQ(after.at("stage3.block1.convolution1"), weights_of(network_).at("stage3.block1.convolution1"));
    EXPECT_NE(after.at("head.classes"), weights_of(network_).at("head.classes"));
    EXPECT_THROW(set_rate_factor(network, "stage9", 0.5), InputError);
}

// At the minimum of a convex function its equations hold, whatever the way there.
TEST(LogisticRegression, EndsWhereTheSlopeIsZero) {
    const Tensor points = random_tensor({200, 3}, 5);
    std::vector<std::size_t> labels;
    for (std::int64_t i = 0; i < 200; ++i) {
        const float* x = points.data() + 3 * i;
        labels.push_back(x[0] + 0.5F * x[1] + 0.6F * x[2] * x[0] > 0.3F ? 2U : (x[1] > 0.2F ? 1U : 0U));
    }
    const LogisticRegression fit =
        fit_logistic_regression(points.values(), labels, {}, 3, {.l2_regularisation = 0.0});
    EXPECT_TRUE(fit.converged);
    EXPECT_LT(fit.steps, 200);
    // Without regularisation: for each class, expected and observed counts, and sums of each feature, agree.
    for (std::int64_t c = 0; c < 3; ++c)
        for (std::int64_t f = -1; f < 3; ++f) {
            double observed = 0.0;
            double expected = 0.0;
            for (std::int64_t i = 0; i < 200; ++i) {
                const float* x = points.data() + 3 * i;
                double scores[3];
                double sum = 0.0;
                for (std::int64_t k = 0; k < 3; ++k) {
                    scores[k] = static_cast<double>(fit.bias.data()[k]);
                    for (std::int64_t j = 0; j < 3; ++j)
                        scores[k] +=
                            static_cast<double>(x[j]) * static_cast<double>(fit.weight.data()[j * 3 + k]);
                    sum += std::exp(scores[k]);
                }
                const double value = f < 0 ? 1.0 : static_cast<double>(x[f]);
                expected += value * std::exp(scores[c]) / sum;
                if (labels[static_cast<std::size_t>(i)] == static_cast<std::size_t>(c)) observed += value;
            }
            EXPECT_NEAR(expected, observed, 1e-3) << c << " " << f;
        }
}

TEST(LogisticRegression, ThePenaltyHoldsSeparablePointsAndScalesDoNotMatter) {
    // Two points at -1 and 1 with L2 regularisation p: by symmetry one number w with 2 w = sigmoid(-2 w ...):
    // checked by its equation, mean slope + p w / n = 0 for each of the two opposite weights.
    const std::vector<float> points = {-1.0F, 1.0F};
    const std::vector<std::size_t> labels = {0, 1};
    const LogisticRegression fit = fit_logistic_regression(points, labels, {}, 2, {.l2_regularisation = 0.5});
    const auto w = static_cast<double>(fit.weight.data()[1]);
    EXPECT_NEAR(fit.weight.data()[0], -w, 1e-5);
    EXPECT_NEAR(1.0 / (1.0 + std::exp(2.0 * w)), 0.5 * w / 2.0, 1e-5);
    const std::vector<float> larger = {-1000.0F, 1000.0F};
    const LogisticRegression scaled =
        fit_logistic_regression(larger, labels, {}, 2, {.l2_regularisation = 0.5});
    EXPECT_NEAR(scaled.weight.data()[1] * 1000.0F, w, 1e-4);
    EXPECT_NEAR(scaled.loss, fit.loss, 1e-6);
}

TEST_F(FreezingRuns, ASolvedHeadIsTheRegressionOnItsFeatures) {
    Network network = residual_backbone({.widths = {4, 6}, .blocks = {1}, .stem_stride = 1}, {16, 16, 3});
    append_head(network, {}, 3);
    initialise(network, 0, 2);
    const std::size_t head = find_boundary(network, "head");
    const auto solve = [&] {
        const auto run = trainer(network, {{1, head}}, 1);
        const EpochResult result = run->solve_head(1.0);
        run->keep_as_best();
        return std::pair(result, run->best_network());
    };
    const auto [result, solved] = solve();
    EXPECT_EQ(result.epoch, 1);
    EXPECT_GT(score(result.training, Metric::accuracy), 0.8);
    EXPECT_EQ(weights_of(solved), weights_of(solve().second));
    // No step of training from there lowers the loss without the regularisation by much.
    BoundaryFeatures features(*images_, cut_network(network, head).frozen, scaling_);
    std::vector<std::int64_t> items(data_.parts.training.begin(), data_.parts.training.end());
    std::vector<float> rows(items.size() * 6);
    features.fill(items, rows);
    std::vector<std::size_t> labels;
    for (const std::int64_t item : items) labels.push_back(data_.labels[static_cast<std::size_t>(item)]);
    const LogisticRegression fit = fit_logistic_regression(rows, labels, {}, 3, {.l2_regularisation = 1.0});
    EXPECT_TRUE(std::ranges::equal(fit.weight.values(), solved.nodes.back().parameters[0].values()));
    EXPECT_NEAR(result.training_loss, fit.loss, 1e-5);
}

}  // namespace
}  // namespace jevrin
