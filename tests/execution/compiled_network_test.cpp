// What a compiled network promises: the same bits on any number of threads, no allocation after the first
// step, little memory, and an error before it starts when memory does not suffice.
#include "jevrin/execution/compiled_network.hpp"

#include "execution/allocation_count.hpp"
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/execution/buffer_plan.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/execution/training_pass.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/optimiser.hpp"

#include <cstring>
#include <functional>

namespace jevrin {

using namespace operators;

namespace {

using test::random_tensor;

constexpr std::int64_t classes = 5;

struct Family {
    const char* name;
    Network backbone;
};

// One small network of each family, with enough channels for several blocks of columns.
std::vector<Family> families() {
    return {
        {"plain", plain_backbone({.widths = {12, 70}, .convolutions = 1}, {12, 12, 3})},
        {"residual", residual_backbone({.widths = {16, 66}, .blocks = {1}, .stem_stride = 1}, {12, 12, 3})},
        {"densely connected",
         densely_connected_backbone({.stem_width = 8, .growth = 6, .layers = {2, 2}}, {12, 12, 3})},
        {"inverted residual", inverted_residual_backbone({.stem_width = 8, .last_width = 40}, {16, 16, 3})},
        {"vision transformer",
         vision_transformer_backbone({.patch = 4, .width = 24, .depth = 2, .heads = 2}, {12, 12, 3})}};
}

// A network in training on made-up images, with dropout in its head.
class Training {
  public:
    Training(const Network& backbone, std::int64_t capacity) : network_(backbone) {
        append_head(network_, {.hidden = {20}, .dropout = 0.3}, classes);
        initialise(network_, 0, 7);
        pass_.emplace(network_, capacity);
        optimiser_.emplace(OptimiserSettings{}, pass_->parameters());
        images_ = random_tensor({40 * element_count(network_.input)}, 3);
        gradient_.resize(static_cast<std::size_t>(capacity * classes));
        for (std::int64_t i = 0; i < 40; ++i) {
            items_.push_back(i);
            targets_.push_back({.label = static_cast<std::size_t>(i % classes)});
        }
    }
    void step(std::int64_t first, std::int64_t batch) {
        const std::int64_t size = element_count(network_.input);
        const auto logits =
            pass_->forward(batch, images_.values().subspan(static_cast<std::size_t>(first * size)),
                           {1, 2, items_.data() + first});
        cross_entropy(classes, logits,
                      std::span<const Target>(targets_).subspan(static_cast<std::size_t>(first),
                                                                static_cast<std::size_t>(batch)),
                      gradient_);
        pass_->backward(batch, gradient_);
        optimiser_->step(pass_->parameters(), {.learning_rate = 0.01});
    }
    // Batches of 12 with a last one of 4, over and over.
    void steps(int count) {
        for (int i = 0; i < count; ++i) step(12 * (i % 4), i % 4 == 3 ? 4 : 12);
    }
    std::vector<float> weights() const {
        std::vector<float> all;
        for (const Node& node : network_.nodes)
            for (const Tensor& p : node.parameters)
                all.insert(all.end(), p.values().begin(), p.values().end());
        return all;
    }
    const TrainingPass& pass() const { return *pass_; }

  private:
    Network network_;
    std::optional<TrainingPass> pass_;
    std::optional<Optimiser> optimiser_;
    Tensor images_;
    std::vector<std::int64_t> items_;
    std::vector<Target> targets_;
    std::vector<float> gradient_;
};

TEST(CompiledNetwork, WeightsAfterFiftyStepsAreTheSameBitsOnAnyNumberOfThreads) {
    for (const Family& family : families()) {
        SCOPED_TRACE(family.name);
        std::vector<float> first;
        for (const int threads : {1, 2, 3, 5}) {
            set_threads(threads);
            Training training(family.backbone, 12);
            training.steps(50);
            const std::vector<float> weights = training.weights();
            for (const float w : weights) ASSERT_TRUE(std::isfinite(w));
            if (first.empty()) first = weights;
            EXPECT_EQ(std::memcmp(weights.data(), first.data(), weights.size() * sizeof(float)), 0)
                << threads << " threads";
        }
    }
    set_threads(2);
}

TEST(CompiledNetwork, AStepAllocatesNothingAfterTheFirst) {
    for (const Family& family : families()) {
        SCOPED_TRACE(family.name);
        Training training(family.backbone, 12);
        training.steps(1);
        const std::int64_t before = allocation_count();
        training.steps(4);
        EXPECT_EQ(allocation_count(), before);
    }
}

TEST(CompiledNetwork, InferenceAllocatesNothingAfterTheFirstRun) {
    for (const Family& family : families()) {
        SCOPED_TRACE(family.name);
        Network network = family.backbone;
        append_head(network, {}, classes);
        initialise(network, 0, 1);
        Inference inference(network, 4);
        const Tensor images = random_tensor({4 * inference.input_size()}, 1);
        inference.run(4, images.values());
        const std::int64_t before = allocation_count();
        inference.run(4, images.values());
        inference.run(3, images.values());
        EXPECT_EQ(allocation_count(), before);
    }
}

TEST(CompiledNetwork, TheOutputIsThatOfTheNetworkBeforeItWasCompiled) {
    // In training mode with stored statistics, nothing is folded; inference folds everything it can.
    for (const Family& family : families()) {
        SCOPED_TRACE(family.name);
        Network network = family.backbone;
        append_head(network, {}, classes);
        initialise(network, 0, 3);
        std::uint64_t seed = 0;
        for (Node& node : network.nodes)
            if (auto* op = std::get_if<BatchNormalisation>(&node.op)) {
                op->fixed = true;
                node.parameters[1] = random_tensor(node.parameters[1].shape(), ++seed, 0.3);
                node.parameters[2] = random_tensor(node.parameters[2].shape(), ++seed, 0.3);
            }
        Inference inference(network, 3);
        const Tensor images = random_tensor({3 * inference.input_size()}, 1);
        const auto folded = inference.run(3, images.values());
        TrainingPass pass(network, 3);
        const std::vector<std::int64_t> items(3, 0);
        const auto plain = pass.forward(3, images.values(), {1, 1, items.data()});
        for (std::size_t i = 0; i < plain.size(); ++i)
            EXPECT_NEAR(folded[i], plain[i], 2e-5 * (1 + std::abs(static_cast<double>(plain[i]))));
    }
}

TEST(CompiledNetwork, ActivationsKeptInSixteenBitsTakeHalfTheRoomAndTrainAlike) {
    for (const Family& family : families()) {
        SCOPED_TRACE(family.name);
        const std::vector<std::int64_t> items(6, 0);
        std::vector<float> outputs[2];
        std::vector<double> gradients[2];
        std::int64_t kept_bytes[2];
        for (const KeptActivations kept : {KeptActivations::float32, KeptActivations::bfloat16}) {
            const auto way = static_cast<std::size_t>(kept);
            Network network = family.backbone;
            append_head(network, {}, classes);
            initialise(network, 0, 5);
            TrainingPass pass(network, 6, kept);
            const Tensor images = random_tensor({6 * element_count(network.input)}, 6);
            const auto output = pass.forward(6, images.values(), {1, 1, items.data()});
            outputs[way].assign(output.begin(), output.end());
            const Tensor gradient = random_tensor({std::ssize(output)}, 7);
            pass.backward(6, gradient.values());
            const std::int64_t before = allocation_count();
            pass.forward(6, images.values(), {1, 1, items.data()});
            pass.backward(6, gradient.values());
            EXPECT_EQ(allocation_count(), before);
            for (const TrainedParameter& parameter : pass.parameters())
                gradients[way].insert(gradients[way].end(), parameter.gradient.begin(),
                                      parameter.gradient.end());
            kept_bytes[way] = pass.memory().kept_per_item;
        }
        // Forward is the same to the bit; backward sees values within 2^-9 of it.
        EXPECT_EQ(outputs[0], outputs[1]);
        double difference = 0;
        double size = 0;
        for (std::size_t i = 0; i < gradients[0].size(); ++i) {
            difference += (gradients[0][i] - gradients[1][i]) * (gradients[0][i] - gradients[1][i]);
            size += gradients[0][i] * gradients[0][i];
        }
        EXPECT_GT(difference, 0);
        EXPECT_LT(std::sqrt(difference / size), 0.03);
        EXPECT_LT(kept_bytes[1], 0.7 * static_cast<double>(kept_bytes[0]));
    }
}

TEST(CompiledNetwork, ATooLargeBatchIsRefusedWithOneThatFits) {
    Network network = residual_backbone({.widths = {32, 64}, .blocks = {1}, .stem_stride = 1}, {64, 64, 3});
    append_head(network, {}, classes);
    initialise(network, 0, 1);
    const PassMemory need = CompiledNetwork(network, PassKind::training).memory();
    set_memory_limit(resident_memory() + need.total(20) + need.per_item / 2);
    const auto train = [&](std::int64_t batch) {
        return [&network, batch] { const TrainingPass pass(network, batch); };
    };
    const std::string message = test::message_of<InputError>(train(400));
    EXPECT_THAT(message, testing::HasSubstr("for a batch of 400"));
    EXPECT_THAT(message, testing::ContainsRegex("a batch of (19|20) would fit"));
    set_memory_limit(1);
    EXPECT_THAT(test::message_of<InputError>(train(1)), testing::HasSubstr("not even one image would fit"));
    set_memory_limit(0);
    const TrainingPass pass(network, 20);
    EXPECT_EQ(pass.memory().total(20), need.total(20));
}

TEST(CompiledNetwork, AnItemGetsTheSameBitsInEveryBatchAndOnAnyNumberOfThreads) {
    for (const Family& family : families()) {
        SCOPED_TRACE(family.name);
        Network network = family.backbone;
        append_head(network, {.hidden = {33}}, classes);
        initialise(network, 0, 2);
        Inference inference(network, 9);
        const auto size = static_cast<std::size_t>(inference.input_size());
        const Tensor images = random_tensor({9 * inference.input_size()}, 4);
        const auto together = inference.run(9, images.values());
        const std::vector<float> expected(together.begin(), together.end());
        for (const int threads : {1, 3}) {
            set_threads(threads);
            for (std::size_t n = 0; n < 9; ++n) {
                const auto alone = inference.run(1, images.values().subspan(n * size));
                EXPECT_EQ(std::memcmp(alone.data(), expected.data() + n * classes, alone.size_bytes()), 0)
                    << "item " << n << ", " << threads << " threads";
            }
        }
        set_threads(2);
    }
}

TEST(CompiledNetwork, EveryFamilyLearnsToTellItsPicturesApart) {
    for (const Family& family : families()) {
        SCOPED_TRACE(family.name);
        Network network = family.backbone;
        append_head(network, {}, classes);
        initialise(network, 0, 11);
        const Tensor images = random_tensor({10 * element_count(network.input)}, 8);
        const std::vector<std::size_t> labels = {0, 1, 2, 3, 4, 0, 1, 2, 3, 4};
        const std::vector<std::int64_t> items(10, 0);
        std::vector<float> gradient(10 * classes);
        TrainingPass pass(network, 10);
        Optimiser optimiser({}, pass.parameters());
        double first = 0;
        double last = 0;
        for (int step = 0; step < 80; ++step) {
            const auto logits = pass.forward(10, images.values(), {1, 1, items.data()});
            last = cross_entropy(classes, logits, plain_targets(labels), gradient).loss_sum / 10;
            if (step == 0) first = last;
            pass.backward(10, gradient);
            optimiser.step(pass.parameters(), {.learning_rate = 0.02});
        }
        EXPECT_GT(first, 0.5);
        EXPECT_LT(last, first / 5);
    }
}

TEST(CompiledNetwork, KeepsWhatBackwardReadsAndNothingElse) {
    // A 1x1 convolution, its normalisation joined with the relu, a second convolution and the pooling: the
    // input of the normalisation and of the second convolution are kept, the output of the last is not.
    Network network{{8, 8, 4}, {}};
    std::size_t x = network.add("image", Input{}, {});
    const auto convolution = [&](const char* name, std::int64_t in, std::int64_t out) {
        x = network.add(name, Convolution{}, {x}, {Tensor({1, 1, in, out})});
    };
    convolution("first", 4, 16);
    x = network.add("normalisation", BatchNormalisation{}, {x}, std::vector<Tensor>(4, Tensor({16})));
    x = network.add("relu", relu(), {x});
    convolution("second", 16, 32);
    network.add("average", GlobalAveragePooling{}, {x});
    const PassMemory memory = CompiledNetwork(network, PassKind::training).memory();
    // ... and the 32 averages, which the caller reads.
    EXPECT_EQ(memory.kept_per_item, (8 * 8 * 16 + 8 * 8 * 16 + 32) * 4);
    // Beside them at most the gradients before and behind the second convolution.
    EXPECT_LE(memory.per_item, memory.kept_per_item + 8 * 8 * (32 + 16) * 4);
    // Without backward, a value lives from its maker to its user.
    EXPECT_LE(CompiledNetwork(network, PassKind::inference).memory().per_item, 8 * 8 * (16 + 32) * 4);
}

TEST(CompiledNetwork, AStepOfADeepNetworkTakesLittleMoreThanItMustKeep) {
    Network network =
        residual_backbone({.widths = {64, 128, 256, 512}, .blocks = {2}, .stem_stride = 1}, {64, 64, 3});
    append_head(network, {}, classes);
    const PassMemory memory = CompiledNetwork(network, PassKind::training).memory();
    const std::int64_t parameters = parameter_count(network) * 4;
    const double least = static_cast<double>(16 * memory.kept_per_item + 3 * parameters);
    // The pass holds the gradients; the weights and their momentum come on top.
    EXPECT_LE(static_cast<double>(memory.total(16) + 2 * parameters) / least, 1.3);
}

TEST(CompiledNetwork, AFrozenBeginningNeitherKeepsNorDifferentiates) {
    // Constants that do not train, and what is made of them alone, take part in no backward step.
    Network network{{6}, {}};
    const std::size_t x = network.add("features", Input{}, {});
    const std::size_t offset = network.add("offset", Constant{.trained = false}, {}, {Tensor({6})});
    const std::size_t moved = network.add("moved", sum_of_two(), {x, offset});
    network.add("dense", Dense{}, {moved}, {Tensor({6, 3}), Tensor({3})});
    const CompiledNetwork compiled(network, PassKind::training);
    std::vector<bool> trains;
    for (const auto& instruction : compiled.instructions()) trains.push_back(instruction.trains);
    EXPECT_EQ(trains, (std::vector<bool>{false, false, true}));
}

TEST(BufferPlan, BuffersAliveTogetherNeverOverlap) {
    RandomStream random({21, Purpose::sample, 0, 0});
    for (int round = 0; round < 100; ++round) {
        std::vector<BufferLife> lives;
        for (std::uint32_t i = 0; i < 2 + random.below(40); ++i) {
            const std::int64_t begin = random.below(50);
            lives.push_back({1 + random.below(100), begin, begin + random.below(12)});
        }
        const BufferPlan plan = plan_buffers(lives);
        std::int64_t busiest = 0;
        for (std::int64_t time = 0; time < 62; ++time) {
            std::int64_t alive = 0;
            for (const BufferLife& life : lives)
                if (life.begin <= time && time <= life.end) alive += life.size;
            busiest = std::max(busiest, alive);
        }
        EXPECT_GE(plan.total, busiest);
        EXPECT_LE(plan.total, 2 * busiest);
        for (std::size_t a = 0; a < lives.size(); ++a) {
            EXPECT_LE(plan.offsets[a] + lives[a].size, plan.total);
            for (std::size_t b = 0; b < a; ++b) {
                const bool together = lives[a].begin <= lives[b].end && lives[b].begin <= lives[a].end;
                const bool apart = plan.offsets[a] + lives[a].size <= plan.offsets[b] ||
                                   plan.offsets[b] + lives[b].size <= plan.offsets[a];
                EXPECT_TRUE(apart || !together);
            }
        }
    }
}

TEST(BufferPlan, AChainNeedsNoMoreThanTwoNeighbours) {
    const std::vector<BufferLife> chain = {{10, 1, 2}, {6, 2, 3}, {8, 3, 4}, {9, 4, 5}};
    EXPECT_EQ(plan_buffers(chain).total, 17);
}

}  // namespace
}  // namespace jevrin
