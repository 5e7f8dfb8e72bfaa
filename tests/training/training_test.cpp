#include "small_training.hpp"
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/stages.hpp"
#include "jevrin/images/batches.hpp"
#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/checkpoint.hpp"
#include "jevrin/training/classifier.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/optimiser.hpp"
#include "jevrin/training/run_trainer.hpp"

#include <cmath>
#include <cstring>

namespace jevrin {

using namespace operators;

namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;

TEST(CrossEntropy, HandWorkedLossAndGradient) {
    // Logits (0, ln 3): probabilities 1/4 and 3/4.
    const std::vector<float> logits = {0.0F, std::log(3.0F), 5.0F, 5.0F};
    const std::vector<std::size_t> labels = {0, 1};
    std::vector<float> gradient(4);
    const BatchLoss loss = cross_entropy(2, logits, plain_targets(labels), gradient);
    EXPECT_NEAR(loss.loss_sum, std::log(4.0) + std::log(2.0), 1e-6);
    EXPECT_EQ(loss.correct, 0);  // the tie goes to the first class
    EXPECT_NEAR(gradient[0], (0.25 - 1) / 2, 1e-6);
    EXPECT_NEAR(gradient[1], 0.75 / 2, 1e-6);
    EXPECT_NEAR(gradient[3], (0.5 - 1) / 2, 1e-6);
}

TEST(CrossEntropy, MixedLabelsAndWeightsByHand) {
    // Probabilities 1/4 and 3/4; three parts of class 0 to one of class 1, counted twice.
    const std::vector<float> logits = {0.0F, std::log(3.0F)};
    const std::vector<Target> targets = {{.label = 0, .other = 1, .share = 0.75, .weight = 2.0}};
    std::vector<float> gradient(2);
    const BatchLoss loss = cross_entropy(2, logits, targets, gradient);
    EXPECT_NEAR(loss.loss_sum, 0.75 * std::log(4.0) + 0.25 * std::log(4.0 / 3.0), 1e-6);
    EXPECT_NEAR(loss.objective_sum, 2 * loss.loss_sum, 1e-6);
    EXPECT_NEAR(gradient[0], 2 * (0.25 - 0.75), 1e-6);
    EXPECT_NEAR(gradient[1], 2 * (0.75 - 0.25), 1e-6);
    // An image mixed with one of its own class is a plain one.
    const std::vector<Target> same = {{.label = 1, .other = 1, .share = 0.3}};
    const std::vector<std::size_t> label = {1};
    EXPECT_NEAR(cross_entropy(2, logits, same, {}).loss_sum,
                cross_entropy(2, logits, plain_targets(label), {}).loss_sum, 1e-12);
}

TEST(CrossEntropy, LargeLogitsStayFinite) {
    const std::vector<float> logits = {2000.0F, -2000.0F};
    const std::vector<std::size_t> labels = {1};
    EXPECT_NEAR(cross_entropy(2, logits, plain_targets(labels), {}).loss_sum, 4000.0, 1e-3);
}

TEST(Optimiser, TwoStepsByHand) {
    std::vector<float> weight = {1.0F};
    std::vector<float> shift = {1.0F};
    const std::vector<float> gradient = {0.5F};
    std::vector<TrainedParameter> parameters = {{weight, gradient, ParameterKind::weight},
                                                {shift, gradient, ParameterKind::normalisation}};
    Optimiser optimiser({.learning_rate = 0.1, .momentum = 0.9, .weight_decay = 0.2}, parameters);
    optimiser.step(parameters, {.learning_rate = 0.1});
    EXPECT_FLOAT_EQ(weight[0], 1.0F - 0.1F * 0.7F);
    EXPECT_FLOAT_EQ(shift[0], 1.0F - 0.1F * 0.5F);  // normalisation does not decay
    optimiser.step(parameters, {.learning_rate = 0.1});
    EXPECT_FLOAT_EQ(weight[0], 0.93F - 0.1F * (0.9F * 0.7F + 0.5F + 0.2F * 0.93F));
    EXPECT_FLOAT_EQ(shift[0], 0.95F - 0.1F * (0.45F + 0.5F));
}

// A small set, and a network for it.
class RunTrainerTest : public SmallTraining {
  protected:
    RunTrainerTest() {
        network_ = residual_backbone({.widths = {4, 8}, .blocks = {1}, .stem_stride = 1}, {16, 16, 3});
        append_head(network_, {.hidden = {6}, .dropout = 0.2}, 3);
        initialise(network_, 0, 1);
    }

    TrainingSettings settings(std::int64_t epochs, Augmentation augmentation = {}) const {
        return {
            .epochs = epochs, .batch = 8, .optimiser = {.learning_rate = 0.05}, .augmentation = augmentation};
    }
    std::unique_ptr<RunTrainer> trainer(const std::string& boundary, const TrainingSettings& s) const {
        const std::size_t first = boundary.empty() ? 1 : find_boundary(network_, boundary);
        return std::make_unique<RunTrainer>(data_, network_, first, scaling_, s, 7);
    }
    static std::vector<float> weights_after(RunTrainer& trainer, std::int64_t epochs) {
        for (std::int64_t e = 0; e < epochs; ++e) trainer.train_epoch();
        std::vector<float> all;
        for (const Tensor& t : trainer.state().parameters)
            all.insert(all.end(), t.values().begin(), t.values().end());
        return all;
    }

    Network network_;
};

TEST_F(RunTrainerTest, LearnsWhatCanBeLearned) {
    const auto run = trainer("", settings(10));
    const EpochResult first = run->train_epoch();
    for (int e = 0; e < 8; ++e) run->train_epoch();
    const EpochResult last = run->train_epoch();
    EXPECT_LT(last.training_loss, 0.5 * first.training_loss);
    EXPECT_GT(score(last.training, Metric::accuracy), 0.8);
    EXPECT_EQ(last.epoch, 10);
}

TEST_F(RunTrainerTest, TheSameBitsForOneTwoThreeAndFiveThreads) {
    // 24 training items in batches of 8, and of 7 so that the last batch is smaller.
    for (const std::int64_t batch : {8, 7}) {
        std::vector<std::vector<float>> results;
        for (const int count : {1, 2, 3, 5}) {
            set_threads(count);
            TrainingSettings s = settings(3, {.flip = true, .shift = 0.1});
            s.batch = batch;
            results.push_back(weights_after(*trainer("", s), 3));
        }
        set_threads(2);
        for (const auto& result : results)
            EXPECT_EQ(std::memcmp(result.data(), results[0].data(), result.size() * sizeof(float)), 0)
                << batch;
    }
}

TEST_F(RunTrainerTest, WhatIsFrozenKeepsEveryByte) {
    for (const char* boundary : {"head", "stage2"}) {
        const auto run = trainer(boundary, settings(2));
        run->train_epoch();
        run->keep_as_best();
        const Network after = run->best_network();
        const std::size_t first = find_boundary(network_, boundary);
        ASSERT_EQ(after.nodes.size(), network_.nodes.size());
        for (std::size_t n = 0; n < after.nodes.size(); ++n)
            for (std::size_t p = 0; p < after.nodes[n].parameters.size(); ++p) {
                const bool same = std::ranges::equal(after.nodes[n].parameters[p].values(),
                                                     network_.nodes[n].parameters[p].values());
                EXPECT_EQ(same, n < first) << network_.nodes[n].name << " parameter " << p;
            }
    }
}

TEST_F(RunTrainerTest, KeptFeaturesChangeNoNumber) {
    // A shift of less than a pixel changes no image, but makes the trainer compute the features of every
    // batch anew.
    const Augmentation without_effect{.shift = 0.01};
    for (const char* boundary : {"head", "stage2"})
        EXPECT_EQ(weights_after(*trainer(boundary, settings(3)), 3),
                  weights_after(*trainer(boundary, settings(3, without_effect)), 3))
            << boundary;
}

TEST_F(RunTrainerTest, StrongAugmentationAndMixingDependOnNoThread) {
    Augmentation augmentation = augmentation_of_strength("strong");
    augmentation.mixing.form = MixingForm::cutmix;
    for (const char* boundary : {"", "stage2"}) {
        const auto two = weights_after(*trainer(boundary, settings(2, augmentation)), 2);
        set_threads(1);
        EXPECT_EQ(weights_after(*trainer(boundary, settings(2, augmentation)), 2), two);
        set_threads(2);
        EXPECT_NE(weights_after(*trainer(boundary, settings(2)), 2), two);
    }
}

TEST_F(RunTrainerTest, WeightsOfItemsScaleTheirLoss) {
    const auto plain = weights_after(*trainer("head", settings(2)), 2);
    data_.weights.assign(data_.labels.size(), 1.0);
    EXPECT_EQ(weights_after(*trainer("head", settings(2)), 2), plain);
    data_.weights.assign(data_.labels.size(), 0.5);
    const auto halved = weights_after(*trainer("head", settings(2)), 2);
    EXPECT_NE(halved, plain);
    // Half the weight of every item is half the learning rate, without momentum's and decay's help.
    TrainingSettings slow = settings(1);
    slow.optimiser = {.learning_rate = 0.05, .momentum = 0.0, .weight_decay = 0.0};
    TrainingSettings slower = slow;
    slower.optimiser.learning_rate = 0.025;
    const auto weighted = weights_after(*trainer("head", slow), 1);
    data_.weights.clear();
    const auto unweighted = weights_after(*trainer("head", slower), 1);
    for (std::size_t i = 0; i < weighted.size(); ++i) EXPECT_NEAR(weighted[i], unweighted[i], 1e-6);
}

TEST_F(RunTrainerTest, BoundaryFeaturesDoNotDependOnWhatIsAskedTogether) {
    const NetworkHalves split = cut_network(network_, find_boundary(network_, "stage2"));
    BoundaryFeatures together(*images_, split.frozen, scaling_);
    BoundaryFeatures alone(*images_, split.frozen, scaling_);
    const auto size = static_cast<std::size_t>(together.values_per_item());
    const std::vector<std::int64_t> items = {5, 0, 17, 5, 30};
    std::vector<float> rows(items.size() * size);
    together.fill(items, rows);
    for (std::size_t i = 0; i < items.size(); ++i) {
        std::vector<float> row(size);
        alone.fill(std::span(items).subspan(i, 1), row);
        EXPECT_TRUE(std::equal(row.begin(), row.end(), rows.begin() + static_cast<std::ptrdiff_t>(i * size)));
        std::vector<float> image(static_cast<std::size_t>(images_->values_per_image()));
        images_->fill(std::span(items).subspan(i, 1), together.scaling(), {}, {}, image);
        together.compute(1, image, row);
        EXPECT_TRUE(std::equal(row.begin(), row.end(), rows.begin() + static_cast<std::ptrdiff_t>(i * size)));
    }
}

TEST_F(RunTrainerTest, FrozenLayersSeeEachPictureOnceForAllEpochsAndSeeds) {
    FeaturePool pool;
    const std::size_t head = find_boundary(network_, "head");
    const auto images =
        static_cast<std::int64_t>(data_.parts.training.size() + data_.parts.validation.size());
    for (const std::uint64_t seed : {7U, 8U}) {
        RunTrainer trainer(data_, network_, head, scaling_, settings(4), seed, &pool);
        weights_after(trainer, 4);
        EXPECT_EQ(pool.computed(), images);
    }
    FeaturePool other;
    RunTrainer changing(data_, network_, head, scaling_, settings(2, {.flip = true}), 7, &other);
    weights_after(changing, 2);
    EXPECT_EQ(other.computed(), images + static_cast<std::int64_t>(data_.parts.training.size()));
}

TEST_F(RunTrainerTest, SharedFeaturesChangeNoNumber) {
    FeaturePool pool;
    const std::size_t head = find_boundary(network_, "head");
    RunTrainer first(data_, network_, head, scaling_, settings(2), 7, &pool);
    const std::vector<float> alone = weights_after(first, 2);
    RunTrainer second(data_, network_, head, scaling_, settings(2), 7, &pool);
    EXPECT_EQ(weights_after(second, 2), alone);
}

// Both ways of 3x3 convolutions: results differ by rounding, and no feature of one is given to the other.
TEST_F(RunTrainerTest, TransformedTilesCanBeTurnedOffAndTheirFeaturesAreKeptApart) {
    network_ = residual_backbone({.widths = {32, 32}, .blocks = {1}, .stem_stride = 1}, {16, 16, 3});
    append_head(network_, {}, 3);
    initialise(network_, 0, 1);
    FeaturePool pool;
    const std::size_t head = find_boundary(network_, "head");
    std::vector<float> weights[2];
    for (const bool winograd : {true, false}) {
        TrainingSettings own = settings(2);
        own.winograd = winograd;
        RunTrainer whole(data_, network_, 1, scaling_, own, 7);
        weights[winograd] = weights_after(whole, 2);
        RunTrainer frozen(data_, network_, head, scaling_, own, 7, &pool);
        weights_after(frozen, 2);
    }
    EXPECT_NE(weights[0], weights[1]);
    for (std::size_t i = 0; i < weights[0].size(); ++i) EXPECT_NEAR(weights[0][i], weights[1][i], 0.05) << i;
    EXPECT_EQ(pool.computed(),
              2 * static_cast<std::int64_t>(data_.parts.training.size() + data_.parts.validation.size()));
}

TEST_F(RunTrainerTest, WithActivationsInSixteenBitsARunResumesAndHasTheSameBitsOnAnyNumberOfThreads) {
    const std::vector<float> exact = weights_after(*trainer("stage2", settings(4)), 4);
    TrainingSettings own = settings(4);
    own.activations = KeptActivations::bfloat16;
    const std::vector<float> undisturbed = weights_after(*trainer("stage2", own), 4);
    EXPECT_NE(undisturbed, exact);
    for (std::size_t i = 0; i < exact.size(); ++i) EXPECT_NEAR(undisturbed[i], exact[i], 0.1) << i;
    const int threads_before = threads();
    set_threads(3);
    EXPECT_EQ(weights_after(*trainer("stage2", own), 4), undisturbed);
    set_threads(threads_before);
    const auto stopped = trainer("stage2", own);
    weights_after(*stopped, 2);
    const auto resumed = trainer("stage2", own);
    resumed->restore(stopped->state());
    EXPECT_EQ(weights_after(*resumed, 2), undisturbed);
}

TEST_F(RunTrainerTest, AResumedRunIsTheUndisturbedOne) {
    const std::vector<float> undisturbed = weights_after(*trainer("stage2", settings(4)), 4);
    const auto before = trainer("stage2", settings(4));
    before->train_epoch();
    before->keep_as_best();
    before->train_epoch();
    TrainingState state = before->state();
    state.note = "note with \"quotes\"";
    write_checkpoint(directory_ / "run.checkpoint", state);
    const auto after = trainer("stage2", settings(4));
    const TrainingState read = read_checkpoint(directory_ / "run.checkpoint");
    EXPECT_EQ(read.note, state.note);
    EXPECT_EQ(read.best_epoch, 1);
    after->restore(read);
    EXPECT_EQ(weights_after(*after, 2), undisturbed);
    const Network best = after->best_network();
    EXPECT_TRUE(std::ranges::equal(best.nodes.back().parameters[0].values(),
                                   before->best_network().nodes.back().parameters[0].values()));
}

TEST_F(RunTrainerTest, ACheckpointHoldsTheBestWeightsOnlyWhenTheyAreOthers) {
    const auto size = [&](const RunTrainer& run) {
        write_checkpoint(directory_ / "run.checkpoint", run.state());
        const TrainingState read = read_checkpoint(directory_ / "run.checkpoint");
        EXPECT_EQ(flat(read.best_parameters), flat(run.state().best_parameters));
        EXPECT_FALSE(read.best_parameters.empty());
        return std::filesystem::file_size(directory_ / "run.checkpoint");
    };
    for (const double average : {0.0, 0.9}) {
        TrainingSettings s = settings(3);
        s.ema_decay = average;
        const auto run = trainer("", s);
        run->train_epoch();
        run->keep_as_best();
        const auto same = size(*run);
        run->train_epoch();
        const auto weights = 4 * flat(run->state().parameters).size();
        EXPECT_NEAR(static_cast<double>(size(*run) - same), static_cast<double>(weights), 500.0);
    }
}

TEST_F(RunTrainerTest, StoppingInTheMiddleOfAnEpochLeavesNoTrace) {
    const std::vector<float> undisturbed = weights_after(*trainer("", settings(2)), 2);
    const auto run = trainer("", settings(2));
    run->train_epoch();
    EXPECT_THROW(run->train_epoch([](std::int64_t batch, std::int64_t) { return batch < 2; }), Interrupted);
    EXPECT_EQ(run->epochs_done(), 1);
    EXPECT_EQ(weights_after(*run, 1), undisturbed);
}

TEST_F(RunTrainerTest, ALossThatExplodesIsAnErrorWithACure) {
    TrainingSettings s = settings(3);
    s.optimiser.learning_rate = 1000.0;
    s.optimiser.weight_decay = 9.0;
    const auto run = trainer("", s);
    EXPECT_THAT(message_of<WorkError>([&] {
                    for (int e = 0; e < 60; ++e) run->train_epoch();
                }),
                HasSubstr("lower it to"));
}

TEST_F(RunTrainerTest, DamagedCheckpointsAreRefused) {
    const auto run = trainer("", settings(1));
    run->train_epoch();
    write_checkpoint(directory_ / "run.checkpoint", run->state());
    const std::string bytes = read_text(directory_ / "run.checkpoint");
    for (std::size_t length = 0; length < bytes.size(); length += 1 + bytes.size() / 50) {
        write_file(directory_ / "cut.checkpoint", std::string_view(bytes).substr(0, length));
        EXPECT_THAT(message_of<InputError>([&] { read_checkpoint(directory_ / "cut.checkpoint"); }),
                    HasSubstr("damaged"));
    }
    std::string altered = bytes;
    altered[bytes.size() / 2] = static_cast<char>(altered[bytes.size() / 2] ^ 1);
    write_file(directory_ / "altered.checkpoint", altered);
    EXPECT_THAT(message_of<InputError>([&] { read_checkpoint(directory_ / "altered.checkpoint"); }),
                HasSubstr("hash"));
    TrainingState other = run->state();
    other.parameters.pop_back();
    EXPECT_THROW(run->restore(other), InputError);
}

TEST_F(RunTrainerTest, AClassifierPredictsWhatItsRunPredicted) {
    for (const char* boundary : {"", "head", "stage2"}) {
        const auto run = trainer(boundary, settings(1));
        run->train_epoch();
        run->keep_as_best();
        const Predictions predicted = run->predict_with_best(data_.parts.validation);
        save_classifier(directory_ / "c.onnx", {.network = run->best_network(),
                                                .classes = set_.classes,
                                                .preparation = {{.size = 16}, scaling_},
                                                .provenance = {{"run", "r/1"}}});
        const Classifier classifier = load_classifier(directory_ / "c.onnx");
        EXPECT_EQ(classifier.provenance.at("run"), "r/1");
        std::vector<std::vector<std::uint8_t>> images;
        for (const std::size_t item : data_.parts.validation)
            images.push_back(load_fitted(item_file(set_, set_.items[item]), classifier.preparation.fitting));
        EXPECT_EQ(classify(classifier, images), predicted.probabilities) << boundary;
    }
}

TEST(Classifier, AModelWithoutItsPreparationIsRefused) {
    const TemporaryDirectory directory;
    Network network{{4}, {}};
    network.add("classes", Dense{}, {network.add("features", Input{}, {})}, {Tensor({4, 2})});
    write_file(directory / "text.onnx", std::string("not a model"));
    EXPECT_THAT(message_of<InputError>([&] { load_classifier(directory / "text.onnx"); }),
                HasSubstr("not an ONNX file"));
    save_classifier(directory / "odd.onnx", {network, {"a", "b"}, {}, {}});
    EXPECT_THAT(message_of<InputError>([&] { load_classifier(directory / "odd.onnx"); }),
                HasSubstr("fits neither"));
}

}  // namespace
}  // namespace jevrin
