// Batches that are cut into shards: the same gradients as in one piece, and the same bits whoever computes
// them.
#include "support/thread_link.hpp"
#include "training/small_training.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/stages.hpp"
#include "jevrin/training/batch_step.hpp"
#include "jevrin/training/checkpoint.hpp"
#include "jevrin/training/shard_link.hpp"
#include "jevrin/training/training_state.hpp"

#include <fmt/format.h>

#include <numeric>

namespace jevrin {

using namespace operators;

namespace {

using test::random_tensor;
using test::ThreadLinks;

TEST(ShardTree, AddsHalvesThenTheirSums) {
    for (const auto& [shards, expected] : {std::pair(1, "0"), std::pair(2, "(0+1)"),
                                           std::pair(3, "(0+(1+2))"), std::pair(5, "((0+1)+(2+(3+4)))")}) {
        std::vector<std::string> texts;
        for (int i = 0; i < shards; ++i) texts.push_back(std::to_string(i));
        join_shards(0, shards, [&](std::int64_t left, std::int64_t right) {
            texts[static_cast<std::size_t>(left)] = fmt::format(
                "({}+{})", texts[static_cast<std::size_t>(left)], texts[static_cast<std::size_t>(right)]);
        });
        EXPECT_EQ(texts.front(), expected);
    }
}

TEST(ShardTree, RanksHaveWholeBranchesAndAllTheShards) {
    for (std::int64_t shards = 1; shards <= 20; ++shards)
        for (int size = 1; size <= shards; ++size) {
            std::int64_t next = 0;
            for (int rank = 0; rank < size; ++rank) {
                const ShardRange range = shards_of_rank(shards, rank, size);
                EXPECT_EQ(range.begin, next);
                EXPECT_GT(range.end, range.begin) << shards << " shards, rank " << rank << " of " << size;
                next = range.end;
            }
            EXPECT_EQ(next, shards);
        }
}

// Numbers whose sum depends on the order.
TEST(ShardTree, SumsOverRanksAreThoseOfOneProcess) {
    constexpr std::int64_t shards = 7;
    std::vector<std::vector<float>> values;
    for (std::int64_t s = 0; s < shards; ++s) {
        const Tensor tensor = random_tensor({33}, static_cast<std::uint64_t>(s) + 1, s % 2 == 0 ? 1e6 : 1e-3);
        values.emplace_back(tensor.values().begin(), tensor.values().end());
    }
    const auto joined = [&](std::int64_t begin, std::int64_t end) {
        std::vector<std::vector<float>> own(values.begin() + begin, values.begin() + end);
        join_shards(0, std::ssize(own), [&](std::int64_t left, std::int64_t right) {
            add_values<float>(own[static_cast<std::size_t>(left)], own[static_cast<std::size_t>(right)]);
        });
        return own.front();
    };
    const std::vector<float> expected = joined(0, shards);
    for (int size = 1; size <= shards; ++size) {
        ThreadLinks links(size);
        links.on_each([&](int rank) {
            const ShardRange range = shards_of_rank(shards, rank, size);
            std::vector<float> sum = joined(range.begin, range.end);
            std::vector<float> space;
            join_ranks(links.of(rank), 0, std::span<float>(sum), space, add_values<float>);
            EXPECT_EQ(sum, expected) << "rank " << rank << " of " << size;
        });
    }
}

// One step of a network over a batch of random numbers.
class OneStep {
  public:
    OneStep(Network network, std::int64_t batch, TrainingSettings settings)
        : network_(std::move(network)),
          settings_(std::move(settings)),
          pass_(network_, settings_.shards == 1 ? batch : (batch + settings_.shards - 1) / settings_.shards),
          step_(network_, pass_, settings_, 3, batch, nullptr) {
        const Tensor images = random_tensor({batch * element_count(network_.input)}, 5);
        std::vector<std::int64_t> items(static_cast<std::size_t>(batch));
        std::iota(items.begin(), items.end(), 0);
        std::vector<std::size_t> labels;
        for (const std::int64_t item : items) labels.push_back(static_cast<std::size_t>(item % 3));
        const BatchInput input{items, images.values(), plain_targets(labels)};
        sums = step_.run(input, batch, 1, 1, {}, false);
        for (std::size_t p = 0; p < pass_.parameters().size(); ++p)
            gradients.emplace_back(pass_.gradient(p).begin(), pass_.gradient(p).end());
        for (const Node& node : network_.nodes)
            for (std::size_t p = 0; p < node.parameters.size(); ++p)
                if (parameter_kind(node.op, p) == ParameterKind::statistic)
                    statistics.emplace_back(node.parameters[p].values().begin(),
                                            node.parameters[p].values().end());
    }
    BatchSums sums;
    std::vector<std::vector<float>> gradients;
    std::vector<std::vector<float>> statistics;

  private:
    Network network_;
    TrainingSettings settings_;
    TrainingPass pass_;
    BatchStep step_;
};

void expect_near(const std::vector<std::vector<float>>& a, const std::vector<std::vector<float>>& b) {
    ASSERT_EQ(a.size(), b.size());
    for (std::size_t p = 0; p < a.size(); ++p) {
        float largest = 1e-6F;
        for (const float value : b[p]) largest = std::max(largest, std::abs(value));
        for (std::size_t i = 0; i < a[p].size(); ++i) EXPECT_NEAR(a[p][i], b[p][i], 2e-5F * largest) << p;
    }
}

Network small_network(bool normalised) {
    Network network = normalised
                          ? residual_backbone({.widths = {4, 8}, .blocks = {1}, .stem_stride = 1}, {8, 8, 3})
                          : perceptron_backbone({.hidden = {16}, .dropout = 0.1}, {8, 8, 3});
    append_head(network, {.hidden = {6}, .dropout = 0.2}, 3);
    initialise(network, 0, 1);
    return network;
}

TEST(Shards, GiveTheGradientsOfTheWholeBatch) {
    // Without batch normalisation whatever its statistics; with it when they are of the whole batch. Batches
    // smaller than the number of shards leave some of them empty.
    for (const bool normalised : {false, true})
        for (const std::int64_t batch : {12, 7, 3})
            for (const std::int64_t shards : {2, 3, 4, 5}) {
                SCOPED_TRACE(fmt::format("{} items, {} shards, {}", batch, shards, normalised));
                const OneStep whole(small_network(normalised), batch, {.batch = batch});
                const OneStep cut(
                    small_network(normalised), batch,
                    {.batch = batch, .shards = shards, .shard_statistics = ShardStatistics::batch});
                expect_near(cut.gradients, whole.gradients);
                expect_near(cut.statistics, whole.statistics);
                EXPECT_NEAR(cut.sums.loss, whole.sums.loss, 1e-5);
                EXPECT_EQ(cut.sums.counts.labelled, whole.sums.counts.labelled);
                EXPECT_EQ(cut.sums.counts.predicted, whole.sums.counts.predicted);
                if (normalised) continue;
                const OneStep in_turn(small_network(false), batch, {.batch = batch, .shards = shards});
                expect_near(in_turn.gradients, whole.gradients);
            }
}

TEST(Shards, WithStatisticsOfTheirOwnAreMeansOverBatches) {
    // Two shards of four items: each is a batch of its own.
    const OneStep cut(small_network(true), 8, {.batch = 8, .shards = 2});
    const OneStep whole(small_network(true), 8, {.batch = 8});
    double difference = 0.0;
    for (std::size_t p = 0; p < cut.gradients.size(); ++p)
        for (std::size_t i = 0; i < cut.gradients[p].size(); ++i)
            difference = std::max(difference, std::abs(static_cast<double>(cut.gradients[p][i]) -
                                                       static_cast<double>(whole.gradients[p][i])));
    EXPECT_GT(difference, 1e-4);
    // The mean of all pixels is the mean of those of equal shards.
    for (std::size_t s = 0; s < whole.statistics.size(); s += 2)
        for (std::size_t c = 0; c < whole.statistics[s].size() && s == 0; ++c)
            EXPECT_NEAR(cut.statistics[s][c], whole.statistics[s][c], 1e-5);
}

class ShardedTraining : public SmallTraining {
  protected:
    // The bytes of a checkpoint after some epochs on so many ranks, and what each epoch told.
    std::pair<std::string, std::string> trained(const TrainingSettings& settings, int size,
                                                std::size_t first = 1) {
        ThreadLinks links(size);
        std::vector<std::string> states(static_cast<std::size_t>(size));
        std::string told;
        links.on_each([&](int rank) {
            RunTrainer trainer(data_, network_, std::vector<TrainingPhase>{{1, first}}, scaling_, settings, 7,
                               nullptr, size == 1 ? nullptr : &links.of(rank));
            while (!trainer.finished()) {
                const EpochResult epoch = trainer.train_epoch();
                if (rank > 0) continue;
                told += fmt::format("{:a} {:a} {:a}", epoch.training_loss, epoch.objective,
                                    epoch.validation.loss);
                for (const LayerSummary& layer : epoch.layers)
                    told += fmt::format(" {:a} {:a}", layer.gradient_norm, layer.dead_fraction);
            }
            TrainingState state = trainer.state();
            state.sums.data_seconds = state.sums.compute_seconds = 0.0;
            const auto bytes = checkpoint_bytes(state);
            states[static_cast<std::size_t>(rank)].assign(reinterpret_cast<const char*>(bytes.data()),
                                                          bytes.size());
        });
        for (const std::string& state : states) EXPECT_EQ(state == states.front(), true) << size << " ranks";
        return {states.front(), told};
    }
    void expect_same_bits(const TrainingSettings& settings, std::size_t first = 1) {
        const auto one = trained(settings, 1, first);
        for (const int size : {2, 3, 4}) {
            const auto many = trained(settings, size, first);
            EXPECT_EQ(many.first == one.first, true) << size << " ranks";
            EXPECT_EQ(many.second, one.second) << size << " ranks";
        }
        for (const int threads : {1, 3}) {
            set_threads(threads);
            EXPECT_EQ(trained(settings, 1, first).first == one.first, true) << threads << " threads";
        }
        set_threads(2);
    }
    void SetUp() override {
        network_ = residual_backbone({.widths = {4, 8}, .blocks = {1}, .stem_stride = 1}, {16, 16, 3});
        append_head(network_, {.hidden = {6}, .dropout = 0.2}, 3);
        initialise(network_, 0, 1);
    }
    Network network_;
};

TEST_F(ShardedTraining, TheSameBitsOnAnyNumberOfRanks) {
    // 24 training items: the last batch of 10 has 4, fewer than the shards.
    for (const ShardStatistics statistics : {ShardStatistics::shard, ShardStatistics::batch}) {
        SCOPED_TRACE(name_of(statistics));
        expect_same_bits({.epochs = 2,
                          .batch = 10,
                          .shards = 5,
                          .shard_statistics = statistics,
                          .gradient_clipping = 0.5,
                          .ema_decay = 0.9,
                          .optimiser = {.kind = OptimiserKind::adamw, .learning_rate = 0.01},
                          .augmentation = {.flip = true, .shift = 0.1}});
    }
}

TEST_F(ShardedTraining, TheSameBitsInEveryRegime) {
    Augmentation mixing{.flip = true};
    mixing.mixing.form = MixingForm::cutmix;
    for (const char* boundary : {"head", "stage2"})
        for (const Augmentation& augmentation : {Augmentation{}, mixing}) {
            SCOPED_TRACE(boundary);
            expect_same_bits({.epochs = 2,
                              .batch = 8,
                              .shards = 4,
                              .optimiser = {.learning_rate = 0.05},
                              .augmentation = augmentation},
                             find_boundary(network_, boundary));
        }
}

TEST_F(ShardedTraining, LearnsWhatCanBeLearned) {
    for (const ShardStatistics statistics : {ShardStatistics::shard, ShardStatistics::batch}) {
        RunTrainer trainer(data_, network_, 1, scaling_,
                           {.epochs = 10,
                            .batch = 8,
                            .shards = 2,
                            .shard_statistics = statistics,
                            .optimiser = {.learning_rate = 0.05}},
                           7);
        const double first = trainer.train_epoch().training_loss;
        double last = first;
        while (!trainer.finished()) last = trainer.train_epoch().training_loss;
        EXPECT_LT(last, 0.5 * first);
    }
}

TEST_F(ShardedTraining, RanksStopBehindTheSameStepAndGoOn) {
    const TrainingSettings settings{
        .epochs = 3, .batch = 8, .shards = 4, .optimiser = {.learning_rate = 0.05}};
    const std::string expected = trained(settings, 1).first;
    ThreadLinks links(2);
    std::vector<TrainingState> stopped(2);
    links.on_each([&](int rank) {
        RunTrainer trainer(data_, network_, std::vector<TrainingPhase>{{1, 1}}, scaling_, settings, 7,
                           nullptr, &links.of(rank));
        trainer.train_epoch();
        // One rank alone asks, behind its second step.
        const auto progress = [&](std::int64_t batch, std::int64_t) { return rank == 0 || batch != 1; };
        EXPECT_THROW(trainer.train_epoch(progress), Interrupted);
        stopped[static_cast<std::size_t>(rank)] = trainer.state();
    });
    EXPECT_EQ(stopped[0].steps_done, stopped[1].steps_done);
    EXPECT_EQ(stopped[0].sums.layers.alive, stopped[1].sums.layers.alive);
    // One process goes on from the state of the first.
    RunTrainer trainer(data_, network_, 1, scaling_, settings, 7);
    trainer.restore(stopped[0]);
    while (!trainer.finished()) trainer.train_epoch();
    TrainingState state = trainer.state();
    const auto bytes = checkpoint_bytes(state);
    EXPECT_EQ(std::string_view(reinterpret_cast<const char*>(bytes.data()), bytes.size()) == expected, true);
}

TEST(Shards, NeedLessMemoryWhenTheyMeasureForThemselves) {
    const TrainingSettings in_turn{.batch = 64, .shards = 8};
    const TrainingSettings together{.batch = 64, .shards = 8, .shard_statistics = ShardStatistics::batch};
    EXPECT_EQ(items_at_once(in_turn, 64), 8);
    EXPECT_EQ(items_at_once(in_turn, 60), 8);
    EXPECT_EQ(items_at_once(together, 64), 64);
}

}  // namespace
}  // namespace jevrin
