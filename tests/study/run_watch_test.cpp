// Warnings as text, on generated epochs: each when it should, once, and not before. The time left.
#include "jevrin/study/run_watch.hpp"

#include "support/support.hpp"

#include "jevrin/study/study.hpp"
#include "jevrin/study/time_left.hpp"

namespace jevrin {
namespace {

using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

EpochRecord epoch(std::int64_t number, double training, double validation, double accuracy = 0.9) {
    return {.epoch = number,
            .training_loss = training,
            .training_scores = {accuracy},
            .validation_loss = validation};
}
LayerSummary layer(const std::string& name, double update, double dead = -1.0) {
    return {.layer = name,
            .weight_norm = 1.0,
            .gradient_norm = 1.0,
            .update_ratio = update,
            .dead_fraction = dead,
            .learning_rate = 0.1};
}

TEST(RunWatch, AHealthyRunIsQuiet) {
    RunWatch watch(0.4);
    for (int e = 1; e <= 20; ++e)
        EXPECT_THAT(watch.observe(epoch(e, 1.0 / e, 1.0 / e + 0.05, 0.5 + 0.02 * e),
                                  {layer("a", 1e-2, 0.3), layer("b", 1e-4, 0.89)}),
                    IsEmpty());
}

TEST(RunWatch, ExplodingGradientsNameTheirLayerOnceFromTheSecondEpoch) {
    RunWatch watch(0.4);
    EXPECT_THAT(watch.observe(epoch(1, 1, 1), {layer("a", 0.9)}), IsEmpty());
    EXPECT_THAT(watch.observe(epoch(2, 1, 1), {layer("fine", 0.29), layer("stage2.x", 0.31)}),
                ElementsAre(testing::AllOf(HasSubstr("'stage2.x' by 31 %"), HasSubstr("gradient_clipping"))));
    EXPECT_THAT(watch.observe(epoch(3, 1, 1), {layer("stage2.x", 0.9)}), IsEmpty());
}

TEST(RunWatch, VanishingGradientsAreThoseFarBelowTheLiveliest) {
    RunWatch watch(0.4);
    EXPECT_THAT(watch.observe(epoch(1, 1, 1), {layer("stem", 2e-7), layer("head", 1e-2)}), IsEmpty());
    EXPECT_THAT(watch.observe(epoch(2, 1, 1), {layer("stem", 0.9e-7), layer("head", 1e-2)}),
                ElementsAre(HasSubstr("'stem' hardly moves")));
    // A layer whose rate is 0 does not want to move.
    LayerSummary still = layer("still", 0.0);
    still.learning_rate = 0.0;
    EXPECT_THAT(RunWatch(0.4).observe(epoch(1, 1, 1), {still, layer("head", 1e-2)}), IsEmpty());
}

TEST(RunWatch, DeadUnitsAndNothingLearned) {
    RunWatch watch(0.4);
    EXPECT_THAT(watch.observe(epoch(1, 1.2, 1.2, 0.3), {layer("a", 1e-2, 0.95)}),
                ElementsAre(HasSubstr("95 % of the units after 'a'")));
    EXPECT_THAT(watch.observe(epoch(2, 1.2, 1.2, 0.41), {}), IsEmpty());
    EXPECT_THAT(watch.observe(epoch(3, 1.18, 1.2, 0.41), {}),
                ElementsAre(HasSubstr("nothing has been learned")));
    RunWatch learning(0.4);
    learning.observe(epoch(1, 1.2, 1.2, 0.3), {});
    EXPECT_THAT(learning.observe(epoch(3, 1.1, 1.2, 0.41), {}), IsEmpty());  // the loss falls
}

TEST(RunWatch, OverfittingNamesTheEpochFromWhichItRose) {
    RunWatch watch(0.4);
    const double validation[] = {1.0, 0.6, 0.65, 0.7, 0.8};
    for (int e = 1; e <= 4; ++e)
        EXPECT_THAT(watch.observe(epoch(e, 0.5 / e, validation[e - 1]), {}), IsEmpty()) << e;
    EXPECT_THAT(watch.observe(epoch(5, 0.1, validation[4]), {}),
                ElementsAre(testing::AllOf(HasSubstr("lowest at epoch 2"), HasSubstr("'patience'"))));
}

TEST(TimeLeft, IsThatOfTheSameCandidateThenOfItsRegime) {
    Candidate head{.name = "head", .regime = Regime::frozen};
    Candidate small{.name = "small", .regime = Regime::scratch};
    Candidate large{.name = "large", .regime = Regime::scratch};
    const auto run = [](const Candidate& candidate, std::int64_t epochs, double operations) {
        return PlannedRun{.candidate = &candidate, .epochs = epochs, .epoch_operations = operations};
    };
    const std::vector<PlannedRun> runs = {run(head, 4, 1.0), run(small, 2, 100.0), run(large, 10, 300.0)};
    TimeLeft left(runs, 1);
    StudyPosition position;
    left.begin(0, 0);
    left.fill(position, 0, 0.5);
    EXPECT_LT(position.seconds_left, 0.0);  // nothing was seen yet
    left.see_epoch(0, 0.5);
    left.fill(position, 0, 0.0);
    EXPECT_DOUBLE_EQ(position.run_seconds_left, 3 * 0.5);
    EXPECT_DOUBLE_EQ(position.seconds_left, 3 * 0.5 + 2 * 50.0 + 10 * 150.0);  // by operations
    left.skip(0);
    left.begin(1, 1);
    left.see_epoch(1, 7.0);
    left.fill(position, 1, 0.0);
    EXPECT_DOUBLE_EQ(position.seconds_left, 10 * 21.0);  // by those of its own regime
    left.begin(2, 4);
    left.skip(1);
    left.fill(position, 2, 0.25);
    EXPECT_DOUBLE_EQ(position.run_seconds_left, 5.75 * 21.0);
    EXPECT_DOUBLE_EQ(position.epoch_seconds_left, 0.75 * 21.0);
    EXPECT_DOUBLE_EQ(position.study_share, 1.0 - 5.75 * 21.0 / (4 * 0.5 + 2 * 7.0 + 10 * 21.0));
    // Continued after its last epoch: nothing is left of it.
    left.begin(2, 10);
    left.fill(position, 2, 0.0);
    EXPECT_DOUBLE_EQ(position.run_seconds_left, 0.0);
    EXPECT_DOUBLE_EQ(position.seconds_left, 0.0);
}

TEST(TimeLeft, RunsAtOnceShareTheTime) {
    const Candidate one{.name = "one", .regime = Regime::scratch};
    const std::vector<PlannedRun> runs(3,
                                       PlannedRun{.candidate = &one, .epochs = 4, .epoch_operations = 1.0});
    TimeLeft left(runs, 2);
    StudyPosition position;
    left.begin(0, 0);
    left.begin(1, 0);
    left.see_epoch(1, 2.0);
    left.fill(position, 0, 0.5);
    EXPECT_DOUBLE_EQ(position.run_seconds_left, 3.5 * 2.0);
    left.fill(position, 1, 0.25);
    EXPECT_DOUBLE_EQ(position.run_seconds_left, 2.75 * 2.0);
    EXPECT_DOUBLE_EQ(position.seconds_left, (3.5 + 2.75 + 4.0) * 2.0 / 2);
}

}  // namespace
}  // namespace jevrin
