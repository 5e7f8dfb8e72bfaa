#include "jevrin/comparison/diagnosis.hpp"

#include "jevrin/base/random.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <functional>

namespace jevrin {
namespace {

using testing::HasSubstr;
using Course = std::function<double(int epoch)>;

// Curves drawn from their formulas, with a score that follows the validation loss.
std::vector<EpochRecord> curve_of(
    int epochs, const Course& training, const Course& validation,
    const Course& score = [](int) { return 0.8; }) {
    std::vector<EpochRecord> curve;
    for (int e = 1; e <= epochs; ++e)
        curve.push_back({.epoch = e,
                         .step = 10 * e,
                         .training_loss = training(e),
                         .validation_loss = validation(e),
                         .learning_rate = 0.1,
                         .validation_scores = {score(e), score(e), score(e)}});
    return curve;
}

// 100 items of four even classes.
Diagnosis diagnose_as(const std::vector<EpochRecord>& curve) {
    return diagnose(curve, {.metric = Metric::accuracy,
                            .baseline = {.score = 0.25,
                                         .standard_error = std::sqrt(0.25 * 0.75 / 100),
                                         .loss = std::log(4.0),
                                         .items = 100}});
}

bool has(const Diagnosis& diagnosis, Finding finding) {
    return std::any_of(diagnosis.findings.begin(), diagnosis.findings.end(),
                       [&](const Observation& o) { return o.finding == finding; });
}

double settling(int epoch, double from, double to, double pace) {
    return to + (from - to) * std::exp(-epoch / pace);
}

TEST(Diagnosis, CurvesThatLevelOutTogetherAreAGoodFit) {
    const Diagnosis d = diagnose_as(curve_of(
        40, [](int e) { return settling(e, 1.4, 0.30, 4); },
        [](int e) { return settling(e, 1.4, 0.38, 4); }));
    EXPECT_EQ(d.finding(), Finding::good_fit);
    EXPECT_EQ(d.findings.size(), 1U);
    EXPECT_EQ(d.overfit_since, 0);
}

TEST(Diagnosis, OverfitNamesSinceWhenAndByHowMuch) {
    // Validation falls to 0.5 at epoch 10 and rises by 0.01 an epoch from there.
    const Diagnosis d = diagnose_as(curve_of(
        30, [](int e) { return 1.4 * std::exp(-e / 10.0); },
        [](int e) { return e <= 10 ? 1.4 - 0.09 * e : 0.5 + 0.01 * (e - 10); }));
    EXPECT_EQ(d.finding(), Finding::overfit);
    EXPECT_NEAR(static_cast<double>(d.overfit_since), 10, 1);
    EXPECT_NEAR(d.overfit_by, 0.19, 0.02);
    EXPECT_THAT(d.findings.front().text(), HasSubstr("validation loss rose from 0.5"));
    EXPECT_GT(d.slope, 0.0);
}

TEST(Diagnosis, AGapThatOpensIsOverfitTooThoughValidationStands) {
    const Diagnosis d = diagnose_as(curve_of(
        30, [](int e) { return settling(e, 1.4, 0.05, 6); }, [](int e) { return settling(e, 1.4, 0.5, 4); }));
    EXPECT_EQ(d.finding(), Finding::overfit);
    EXPECT_EQ(d.overfit_by, 0.0);
    EXPECT_GT(d.overfit_since, 3);
    EXPECT_LT(d.overfit_since, 15);
    EXPECT_THAT(d.findings.front().text(), HasSubstr("stays at 0.50"));
}

TEST(Diagnosis, ALossThatFallsAtTheEndDidNotRise) {
    // The lowest two are the last two; the mean of the last three is far above them.
    const Diagnosis d = diagnose_as(curve_of(
        30, [](int e) { return settling(e, 1.4, 0.3, 6); },
        [](int e) { return e <= 28 ? 0.9 + 0.5 / e : 0.5 + 0.02 * (e - 29); }));
    EXPECT_EQ(d.overfit_by, 0.0);
}

TEST(Diagnosis, ALossMustRiseByItsShareAndByNats) {
    // Falls to a lowest value at epoch 10, and rises to another until epoch 27.
    const auto risen = [](double lowest, double end) {
        return diagnose_as(curve_of(
                               30, [](int e) { return 1.4 * std::exp(-e / 10.0); },
                               [&](int e) {
                                   return e <= 10 ? lowest + 0.1 * (10 - e)
                                                  : lowest + (end - lowest) * std::min(1.0, (e - 10) / 17.0);
                               }))
            .overfit_by;
    };
    EXPECT_EQ(risen(1.0, 1.04), 0.0);   // by 4 %
    EXPECT_EQ(risen(0.1, 0.115), 0.0);  // by 15 %, of little
    EXPECT_NEAR(risen(1.0, 1.06), 0.06, 0.005);
    EXPECT_NEAR(risen(0.1, 0.13), 0.03, 0.003);
}

TEST(Diagnosis, ValidationThatRisesWithTrainingIsNotOverfit) {
    // Both fall to epoch 10 and rise from there: nothing is learned by heart.
    const auto turning = [](int e) { return e <= 10 ? 1.4 - 0.09 * e : 0.5 + 0.01 * (e - 10); };
    const Diagnosis d = diagnose_as(curve_of(30, turning, turning));
    EXPECT_FALSE(has(d, Finding::overfit));
    EXPECT_EQ(d.overfit_since, 0);
}

TEST(Diagnosis, UnderfitIsPoorOnItsOwnTrainingItems) {
    const Diagnosis d = diagnose_as(curve_of(
        40, [](int e) { return settling(e, 1.4, 1.0, 4); }, [](int e) { return settling(e, 1.4, 1.05, 4); },
        [](int) { return 0.5; }));
    EXPECT_EQ(d.finding(), Finding::underfit);
    EXPECT_THAT(d.findings.front().text(), HasSubstr("the baseline has 1.386"));
}

TEST(Diagnosis, AFallCountsWhenItIsSureToFall) {
    // The last five of twenty epochs: 1 + d, 0.97, 0.94, 0.91, 0.88. The slope is -0.03 - 0.2 d with the
    // standard error d * sqrt(0.4 / 3 / 10): 2.6 of them for d = 0.3, 2.48 for 0.35; 2.5 are asked for.
    const auto finds_it = [](double d) {
        const auto validation = [d](int e) {
            return e <= 15 ? 2.0 - 0.03 * e : e == 16 ? 1.0 + d : 1.48 - 0.03 * (e - 16) - 0.48;
        };
        return has(diagnose_as(curve_of(
                       20, [&](int e) { return validation(e) - 0.05; }, validation)),
                   Finding::still_improving);
    };
    EXPECT_TRUE(finds_it(0.3));
    EXPECT_FALSE(finds_it(0.35));
}

TEST(Diagnosis, WhatStillFallsWouldGainFromMoreEpochs) {
    const Diagnosis d = diagnose_as(curve_of(
        20, [](int e) { return 1.3 - 0.045 * e; }, [](int e) { return 1.35 - 0.04 * e; }));
    EXPECT_TRUE(has(d, Finding::still_improving));
    EXPECT_NEAR(d.slope, -0.04, 0.003);
    EXPECT_THAT(d.findings.back().text(), HasSubstr("0.0400 per epoch"));
}

TEST(Diagnosis, ASteadyFallThatHasHardlyBegunIsALowRate) {
    const Diagnosis d = diagnose_as(curve_of(
        20, [](int e) { return 1.38 - 0.008 * e; }, [](int e) { return 1.38 - 0.0085 * e; },
        [](int) { return 0.5; }));
    EXPECT_EQ(d.finding(), Finding::rate_too_low);
    EXPECT_TRUE(has(d, Finding::still_improving));
}

TEST(Diagnosis, TrainingThatJumpsOrRisesIsAHighRate) {
    const Diagnosis rises = diagnose_as(curve_of(
        12, [](int e) { return e == 6 ? 3.0 : 1.4; }, [](int) { return 1.4; }, [](int) { return 0.5; }));
    EXPECT_EQ(rises.finding(), Finding::rate_too_high);
    EXPECT_THAT(rises.findings.front().text(), HasSubstr("rose to 3.000"));
    const Diagnosis jumps = diagnose_as(curve_of(
        20, [](int e) { return e % 2 == 0 ? 0.8 : 1.3; }, [](int e) { return e % 2 == 0 ? 0.9 : 1.4; },
        [](int) { return 0.6; }));
    EXPECT_EQ(jumps.finding(), Finding::rate_too_high);
}

TEST(Diagnosis, ValidationAloneThatJumpsIsUnstable) {
    const Diagnosis d = diagnose_as(curve_of(
        30, [](int e) { return settling(e, 1.4, 0.4, 4); },
        [](int e) { return 0.6 + (e % 2 == 0 ? 0.15 : -0.15); }));
    EXPECT_TRUE(has(d, Finding::unstable));
    EXPECT_FALSE(has(d, Finding::rate_too_high));
}

TEST(Diagnosis, NoBetterThanTheCommonestClassIsSaidSo) {
    const Diagnosis d = diagnose_as(curve_of(
        10, [](int) { return 1.386; }, [](int) { return 1.386; }, [](int) { return 0.3; }));
    EXPECT_EQ(d.finding(), Finding::at_baseline);
    EXPECT_FALSE(has(d, Finding::good_fit));
    // With many items 0.3 is more than chance.
    const Diagnosis sure =
        diagnose(curve_of(
                     10, [](int) { return 1.3; }, [](int) { return 1.3; }, [](int) { return 0.3; }),
                 {.metric = Metric::accuracy,
                  .baseline = {.score = 0.25,
                               .standard_error = std::sqrt(0.25 * 0.75 / 10'000),
                               .loss = std::log(4.0),
                               .items = 10'000}});
    EXPECT_FALSE(has(sure, Finding::at_baseline));
}

TEST(Diagnosis, AFewEpochsSayNothing) {
    EXPECT_EQ(diagnose_as(curve_of(
                              3, [](int) { return 1.0; }, [](int) { return 1.0; }))
                  .finding(),
              Finding::too_short);
    EXPECT_EQ(diagnose_as({}).finding(), Finding::too_short);
}

// Noise of a few percent changes no verdict: 200 noisy versions of each course.
TEST(Diagnosis, HoldsUnderNoise) {
    const auto noisy = [](double value, std::uint64_t draw, int epoch) {
        RandomStream random({draw, Purpose::sample, 0, static_cast<std::uint64_t>(epoch)});
        return value * (1.0 + 0.02 * random.normal());
    };
    int fits = 0;
    int overfits = 0;
    for (std::uint64_t draw = 0; draw < 200; ++draw) {
        fits += diagnose_as(curve_of(
                                40, [&](int e) { return noisy(settling(e, 1.4, 0.30, 4), draw, e); },
                                [&](int e) { return noisy(settling(e, 1.4, 0.38, 4), draw + 1000, e); }))
                    .finding() == Finding::good_fit;
        overfits += diagnose_as(curve_of(
                                    40, [&](int e) { return noisy(1.4 * std::exp(-e / 12.0), draw, e); },
                                    [&](int e) {
                                        return noisy(e <= 10 ? 1.4 - 0.09 * e : 0.5 + 0.01 * (e - 10),
                                                     draw + 1000, e);
                                    }))
                        .finding() == Finding::overfit;
    }
    EXPECT_GE(fits, 190);
    EXPECT_GE(overfits, 198);
}

TEST(Baseline, IsTheCommonestClass) {
    ConfusionMatrix matrix(3);
    matrix.add(0, 1, 6);
    matrix.add(1, 1, 2);
    matrix.add(2, 0, 2);
    const Baseline accuracy = baseline_of(matrix, Metric::accuracy);
    EXPECT_EQ(accuracy.items, 10);
    EXPECT_DOUBLE_EQ(accuracy.score, 0.6);
    EXPECT_NEAR(accuracy.loss, -0.6 * std::log(0.6) - 0.4 * std::log(0.2), 1e-12);
    EXPECT_NEAR(accuracy.standard_error, std::sqrt(0.6 * 0.4 / 10), 1e-12);
    const Baseline balanced = baseline_of(matrix, Metric::balanced_accuracy);
    EXPECT_NEAR(balanced.score, 1.0 / 3, 1e-12);
    // The mean of three recalls, of 6, 2 and 2 items.
    EXPECT_NEAR(balanced.standard_error, std::sqrt(2.0 / 9 * (1.0 / 6 + 1.0 / 2 + 1.0 / 2)) / 3, 1e-12);
}

TEST(Baseline, ACoinIsSeldomBetterThanIt) {
    // 195 items of one class and 5 of the other, a fair coin at each of 20 epochs.
    int said = 0;
    constexpr int studies = 200;
    for (std::uint64_t study = 0; study < studies; ++study) {
        RandomStream random({.seed = study, .purpose = Purpose::sample});
        std::vector<EpochRecord> curve;
        ConfusionMatrix matrix(2);
        for (int epoch = 1; epoch <= 20; ++epoch) {
            matrix = ConfusionMatrix(2);
            for (std::size_t i = 0; i < 200; ++i) matrix.add(i < 195 ? 0 : 1, random.below(2));
            curve.push_back(
                recorded_epoch({.epoch = epoch, .training_loss = 0.693, .validation_loss = 0.693}, matrix));
        }
        const Metric metric = Metric::balanced_accuracy;
        said += has(diagnose(curve, {.metric = metric, .baseline = baseline_of(matrix, metric)}),
                    Finding::at_baseline);
    }
    EXPECT_GE(said, studies * 93 / 100);
}

}  // namespace
}  // namespace jevrin
