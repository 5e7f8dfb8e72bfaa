// What the settings of a run do to its training, and that every one of them resumes exactly.
#include "small_training.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/stages.hpp"
#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/checkpoint.hpp"

#include <cmath>
#include <map>

namespace jevrin {
namespace {

using test::message_of;
using testing::HasSubstr;

class RunSettings : public SmallTraining {
  protected:
    RunSettings() {
        network_ = residual_backbone({.widths = {4, 8}, .blocks = {1}, .stem_stride = 1}, {16, 16, 3});
        append_head(network_, {.hidden = {6}, .dropout = 0.2}, 3);
        initialise(network_, 0, 1);
        // 24 training items: three steps an epoch.
        settings_ = {.epochs = 4, .batch = 8, .optimiser = {.learning_rate = 0.05}};
    }
    std::unique_ptr<RunTrainer> trainer(const TrainingSettings& settings, const std::string& boundary = "",
                                        FeaturePool* pool = nullptr) const {
        const std::size_t first = boundary.empty() ? 1 : find_boundary(network_, boundary);
        return std::make_unique<RunTrainer>(data_, network_, first, scaling_, settings, 7, pool);
    }
    // The weights at the end, and every number that was said on the way.
    struct Story {
        std::vector<float> weights;
        std::vector<double> numbers;
        bool operator==(const Story&) const = default;
    };
    static void tell(Story& story, const EpochResult& e) {
        for (const double number : {e.training_loss, e.objective, e.validation.loss, e.learning_rate,
                                    score(e.training, Metric::accuracy), score(e.training, Metric::macro_f1),
                                    static_cast<double>(e.step)})
            story.numbers.push_back(number);
        for (const LayerSummary& l : e.layers)
            for (const double number : {l.weight_norm, l.gradient_norm, l.update_ratio, l.dead_fraction})
                story.numbers.push_back(number);
        story.numbers.insert(story.numbers.end(), e.validation.probabilities.begin(),
                             e.validation.probabilities.end());
    }
    static Story whole_run(RunTrainer& run) {
        Story story;
        while (!run.finished()) tell(story, run.train_epoch());
        run.keep_as_best();
        story.weights = flat(run.state().best_parameters);
        return story;
    }
    // The same, stopped after every `stride` steps; each time another trainer continues from the checkpoint.
    Story in_pieces(const TrainingSettings& settings, const std::string& boundary, int stride) const {
        Story story;
        const auto file = directory_ / "run.checkpoint";
        auto run = trainer(settings, boundary);
        while (!run->finished()) {
            int steps = 0;
            try {
                tell(story, run->train_epoch([&](std::int64_t, std::int64_t) { return ++steps < stride; }));
            } catch (const Interrupted&) {
            }
            write_checkpoint(file, run->state());
            run = trainer(settings, boundary);
            run->restore(read_checkpoint(file));
        }
        run->keep_as_best();
        story.weights = flat(run->state().best_parameters);
        return story;
    }

    Network network_;
    TrainingSettings settings_;
};

TEST_F(RunSettings, EveryKindOfRunResumesFromAnyBatchAsIfUndisturbed) {
    std::map<std::string, TrainingSettings> kinds = {{"plain", settings_}};
    const auto add = [&](const char* name) -> TrainingSettings& { return kinds[name] = settings_; };
    add("nesterov").optimiser.nesterov = true;
    add("adam").optimiser = OptimiserSettings::usual(OptimiserKind::adam);
    add("adamw").optimiser = OptimiserSettings::usual(OptimiserKind::adamw);
    add("averaging").ema_decay = 0.9;
    add("one cycle").schedule.kind = ScheduleKind::one_cycle;
    // A rate with which the validation loss rises and falls.
    TrainingSettings& plateau = add("plateau");
    plateau.schedule = {.kind = ScheduleKind::plateau, .factor = 0.5, .patience = 1};
    plateau.optimiser.learning_rate = 1.0;
    plateau.epochs = 6;
    add("warm-up").schedule = {.kind = ScheduleKind::cosine, .warm_up = 1.5};
    add("limit").gradient_clipping = 0.3;
    add("balanced").sampling = Sampling::balanced;
    add("augmented").augmentation = {.flip = true, .shift = 0.1};
    add("mixed").augmentation = {.mixing = {.form = MixingForm::mixup, .alpha = 0.4}};
    add("in steps").steps = 10;
    add("validated often").validate_every = 2;
    add("validated seldom").validate_every = 5;
    const auto falls = trainer(plateau);
    while (!falls->finished()) falls->train_epoch();
    EXPECT_LT(falls->state().plateau.factor, 1.0);
    for (const auto& [name, settings] : kinds)
        for (const char* boundary : {"", "stage2"}) {
            const Story undisturbed = whole_run(*trainer(settings, boundary));
            EXPECT_EQ(in_pieces(settings, boundary, 2), undisturbed) << name << ' ' << boundary;
        }
}

TEST_F(RunSettings, EachSettingChangesTheWeights) {
    const Story plain = whole_run(*trainer(settings_));
    const auto differs = [&](auto change) {
        TrainingSettings settings = settings_;
        change(settings);
        return whole_run(*trainer(settings)).weights != plain.weights;
    };
    EXPECT_TRUE(differs([](auto& s) { s.optimiser.nesterov = true; }));
    EXPECT_TRUE(differs([](auto& s) { s.ema_decay = 0.5; }));
    EXPECT_TRUE(differs([](auto& s) { s.gradient_clipping = 0.1; }));
    EXPECT_TRUE(differs([](auto& s) { s.loss.label_smoothing = 0.1; }));
    EXPECT_TRUE(differs([](auto& s) { s.loss.focal_gamma = 1.0; }));
    EXPECT_TRUE(differs([](auto& s) { s.schedule.kind = ScheduleKind::linear; }));
    EXPECT_FALSE(differs([](auto& s) { s.gradient_clipping = 1e9; }));
    EXPECT_FALSE(differs([](auto& s) { s.schedule.kind = ScheduleKind::plateau; }));
}

TEST_F(RunSettings, ClassWeightsByNameReachTheLoss) {
    data_.class_names = set_.classes;
    settings_.epochs = 1;
    const EpochResult plain = trainer(settings_)->train_epoch();
    EXPECT_DOUBLE_EQ(plain.objective, plain.training_loss);
    settings_.loss.named_weights = {{"both", 0.0}, {"down", 0.0}};
    EXPECT_LT(trainer(settings_)->train_epoch().objective, 0.7 * plain.objective);
    settings_.loss.named_weights = {{"bath", 0.0}};
    EXPECT_THAT(message_of<InputError>([&] { trainer(settings_); }), HasSubstr("did you mean 'both'"));
}

TEST_F(RunSettings, ValidatingOftenChangesNoWeight) {
    const Story plain = whole_run(*trainer(settings_));
    for (const std::int64_t every : {1, 2, 5, 100}) {
        TrainingSettings settings = settings_;
        settings.validate_every = every;
        const auto run = trainer(settings);
        EXPECT_EQ(run->length().validations, (12 + every - 1) / every);
        EXPECT_EQ(whole_run(*run).weights, plain.weights) << every;
        EXPECT_EQ(run->epochs_done(), run->length().validations);
    }
}

TEST_F(RunSettings, ABudgetInStepsIsKeptToTheStep) {
    settings_.steps = 7;
    settings_.optimiser.learning_rate = 0.01;
    const auto run = trainer(settings_);
    EXPECT_EQ(run->length().validations, 3);
    EXPECT_EQ(run->train_epoch().step, 3);
    EXPECT_EQ(run->train_epoch().step, 6);
    const EpochResult last = run->train_epoch();
    EXPECT_EQ(last.step, 7);
    EXPECT_EQ(last.training.total(), 8);
    EXPECT_TRUE(run->finished());
}

// average_t is the mean of the weights after steps 1..t, weighted with d^(t - i).
TEST_F(RunSettings, TheAverageIsTheOneOfItsFormula) {
    settings_.epochs = 1;
    settings_.ema_decay = 0.7;
    const auto run = trainer(settings_);
    std::vector<double> sum;
    double weights = 0.0;
    run->train_epoch([&](std::int64_t, std::int64_t) {
        const std::vector<float> now = flat(run->state().parameters);
        sum.resize(now.size());
        for (std::size_t i = 0; i < now.size(); ++i) sum[i] = 0.7 * sum[i] + now[i];
        weights = 0.7 * weights + 1.0;
        return true;
    });
    const std::vector<float> average = flat(run->state().averages);
    ASSERT_EQ(average.size(), sum.size());
    for (std::size_t i = 0; i < sum.size(); ++i)
        ASSERT_NEAR(average[i], sum[i] / weights, 1e-5 * (1.0 + std::abs(average[i])));
    run->keep_as_best();
    EXPECT_EQ(flat(run->state().best_parameters), average);
}

TEST_F(RunSettings, FixedViewsComeInTurnAndAreComputedOnce) {
    settings_.epochs = 6;
    settings_.augmentation = {.flip = true, .shift = 0.1};
    settings_.views = 2;
    FeaturePool pool;
    const auto images = static_cast<std::int64_t>(data_.parts.training.size());
    const auto validated = static_cast<std::int64_t>(data_.parts.validation.size());
    const Story kept = whole_run(*trainer(settings_, "head", &pool));
    EXPECT_EQ(pool.computed(), 2 * images + validated);
    // Another seed takes the same views.
    RunTrainer other(data_, network_, find_boundary(network_, "head"), scaling_, settings_, 8, &pool);
    other.train_epoch();
    EXPECT_EQ(pool.computed(), 2 * images + validated);
    FeaturePool without({.keep = false});
    EXPECT_EQ(whole_run(*trainer(settings_, "head", &without)), kept);
    EXPECT_GT(without.computed(), 6 * images);
    settings_.views = 0;
    EXPECT_NE(whole_run(*trainer(settings_, "head")), kept);
}

TEST_F(RunSettings, FeaturesOnDiskAreSharedAndChangeNothing) {
    const FeatureSettings on_disk{.directory = directory_ / "stores", .backbone = "b"};
    for (const char* boundary : {"stage2", "head"}) {
        FeaturePool without({.keep = false});
        const Story told = whole_run(*trainer(settings_, boundary, &without));
        {
            FeaturePool first(on_disk);
            EXPECT_EQ(whole_run(*trainer(settings_, boundary, &first)), told);
            EXPECT_GT(first.computed(), 0);
            EXPECT_TRUE(first.accepts());
            // While the first one writes, another process keeps its rows for itself.
            FeaturePool beside(on_disk);
            EXPECT_EQ(whole_run(*trainer(settings_, boundary, &beside)), told);
            EXPECT_FALSE(beside.accepts());
        }
        FeaturePool second(on_disk);
        EXPECT_EQ(whole_run(*trainer(settings_, boundary, &second)), told);
        EXPECT_EQ(second.computed(), 0);
        // Another backbone of the same shape has a store of its own.
        FeaturePool other({.directory = directory_ / "stores", .backbone = "c"});
        whole_run(*trainer(settings_, boundary, &other));
        EXPECT_GT(other.computed(), 0);
    }
}

TEST_F(RunSettings, ADamagedOrShortStoreIsComputedAnew) {
    const FeatureSettings on_disk{.directory = directory_ / "stores", .backbone = "b"};
    const auto train = [&] {
        FeaturePool pool(on_disk);
        const Story story = whole_run(*trainer(settings_, "head", &pool));
        return std::pair(story, pool.computed());
    };
    const auto [told, all] = train();
    std::filesystem::path rows;
    for (const auto& entry : std::filesystem::directory_iterator(directory_ / "stores"))
        if (entry.path().extension() == ".rows") rows = entry.path();
    std::string bytes = read_text(rows);
    bytes[5] ^= 1;
    write_file(rows, bytes);
    EXPECT_EQ(train(), std::pair(told, std::int64_t{1}));
    write_file(rows, bytes.substr(0, bytes.size() / 2));
    const auto [shorter, some] = train();
    EXPECT_EQ(shorter, told);
    EXPECT_GT(some, 1);
    EXPECT_LT(some, all);
    std::filesystem::remove_all(directory_ / "stores");
    EXPECT_EQ(train(), std::pair(told, all));
}

TEST_F(RunSettings, LayersAreMeasuredWhereTheyTrain) {
    const auto run = trainer(settings_, "stage2");
    const EpochResult epoch = run->train_epoch();
    std::vector<std::string> names;
    for (const LayerSummary& layer : epoch.layers) {
        names.push_back(layer.layer);
        EXPECT_GT(layer.weight_norm, 0.0) << layer.layer;
        EXPECT_GT(layer.gradient_norm, 0.0) << layer.layer;
        EXPECT_GT(layer.update_ratio, 0.0) << layer.layer;
        EXPECT_LT(layer.update_ratio, 1.0) << layer.layer;
        EXPECT_DOUBLE_EQ(layer.learning_rate, 0.05);
    }
    EXPECT_THAT(names, testing::Contains("head.classes"));
    EXPECT_THAT(names, testing::Not(testing::Contains(HasSubstr("stem"))));
    // The last layer has no relu behind it, the hidden one has.
    for (const LayerSummary& layer : epoch.layers) {
        if (layer.layer == "head.classes") {
            EXPECT_EQ(layer.dead_fraction, -1.0);
        }
        if (layer.layer == "head.hidden1") {
            EXPECT_GE(layer.dead_fraction, 0.0);
        }
    }
}

TEST_F(RunSettings, DeadUnitsAreCounted) {
    // Three of the six hidden units can never be above zero.
    for (Node& node : network_.nodes)
        if (node.name == "head.hidden1")
            for (std::size_t unit = 0; unit < 3; ++unit) node.parameters[1].values()[unit] = -1e6F;
    settings_.optimiser.learning_rate = 1e-4;
    const std::vector<LayerSummary> layers = trainer(settings_, "head")->train_epoch().layers;
    ASSERT_EQ(layers[0].layer, "head.hidden1");
    EXPECT_GE(layers[0].dead_fraction, 0.5);
}

TEST_F(RunSettings, AnExplodingRunSaysWhereAndStandsWhereItsEpochBegan) {
    settings_.optimiser.learning_rate = 1e4;
    settings_.optimiser.weight_decay = 9.0;
    settings_.epochs = 60;
    const auto run = trainer(settings_);
    std::vector<float> before;
    std::int64_t done = 0;
    const std::string message = message_of<RunError>([&] {
        for (int e = 0; e < 60; ++e) {
            before = flat(run->state().parameters);
            done = run->epochs_done();
            run->train_epoch();
        }
    });
    EXPECT_THAT(message, testing::AllOf(HasSubstr("became NaN or infinite at step"),
                                        HasSubstr("largest gradient was that of '"),
                                        HasSubstr("lower it to 1e+03"), HasSubstr("gradient_clipping")));
    EXPECT_EQ(run->epochs_done(), done);
    EXPECT_EQ(flat(run->state().parameters), before);
}

TEST_F(RunSettings, StatesOfOtherRunsAreRefused) {
    const auto run = trainer(settings_);
    run->train_epoch();
    const TrainingState state = run->state();
    TrainingSettings adam = settings_;
    adam.optimiser = OptimiserSettings::usual(OptimiserKind::adam);
    EXPECT_THAT(message_of<InputError>([&] { trainer(adam)->restore(state); }), HasSubstr("optimiser state"));
    EXPECT_THROW(trainer(settings_, "stage2")->restore(state), InputError);
    TrainingSettings averaged = settings_;
    averaged.ema_decay = 0.9;
    EXPECT_THROW(trainer(averaged)->restore(state), InputError);
}

}  // namespace
}  // namespace jevrin
