// Scores, rankings, thresholds, calibration: against cases worked by hand and against their definitions.
#include "jevrin/metrics/scores.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/metrics/calibration.hpp"
#include "jevrin/metrics/class_order.hpp"
#include "jevrin/metrics/label_suspicion.hpp"
#include "jevrin/metrics/ranking.hpp"
#include "jevrin/metrics/threshold_curves.hpp"

#include <cmath>
#include <limits>
#include <numeric>

namespace jevrin {
namespace {

using test::message_of;
using testing::AllOf;
using testing::HasSubstr;

// Items of three classes; the fourth one ties.
PredictionTable worked_table() {
    return {.classes = 3,
            .labels = {0, 0, 1, 1, 2},
            .probabilities = {0.72F, 0.18F, 0.10F,    //
                              0.30F, 0.62F, 0.08F,    //
                              0.10F, 0.85F, 0.05F,    //
                              0.45F, 0.45F, 0.10F,    //
                              0.20F, 0.25F, 0.55F}};  //
}

// Random probabilities that know a little of the label; some are equal on purpose.
PredictionTable random_table(std::size_t items, std::size_t classes, std::uint64_t seed) {
    PredictionTable table{.classes = classes, .labels = {}, .probabilities = {}};
    RandomStream random({.seed = seed, .purpose = Purpose::sample});
    for (std::size_t i = 0; i < items; ++i) {
        table.labels.push_back(random.below(static_cast<std::uint32_t>(classes)));
        std::vector<float> row(classes);
        for (float& p : row) p = static_cast<float>(1 + random.below(8));
        row[table.labels.back()] += 4.0F;
        const float sum = std::accumulate(row.begin(), row.end(), 0.0F);
        for (const float p : row) table.probabilities.push_back(p / sum);
    }
    return table;
}

TEST(Scores, HandWorkedCase) {
    const Scores s = score_predictions(worked_table());
    // Predicted: 0, 1, 1, 0 (the first of a tie), 2. Matrix: 1 1 0 / 1 1 0 / 0 0 1.
    EXPECT_EQ(s.items, 5);
    EXPECT_EQ(s.correct, 3);
    EXPECT_DOUBLE_EQ(s[Measure::accuracy], 0.6);
    EXPECT_DOUBLE_EQ(s[Measure::micro_f1], 0.6);
    EXPECT_DOUBLE_EQ(s[Measure::weighted_recall], 0.6);
    EXPECT_DOUBLE_EQ(s[Measure::balanced_accuracy], 2.0 / 3);
    EXPECT_DOUBLE_EQ(s[Measure::macro_precision], 2.0 / 3);
    EXPECT_DOUBLE_EQ(s[Measure::macro_f1], 2.0 / 3);
    EXPECT_DOUBLE_EQ(s[Measure::weighted_precision], 0.6);
    EXPECT_DOUBLE_EQ(s[Measure::top_k], 1.0);
    EXPECT_NEAR(s[Measure::cross_entropy],
                -(std::log(0.72) + std::log(0.3) + std::log(0.85) + std::log(0.45) + std::log(0.55)) / 5,
                1e-7);
    // 0.28^2 + 0.18^2 + 0.1^2, and so on.
    EXPECT_NEAR(s[Measure::brier], (0.1208 + 0.8808 + 0.035 + 0.515 + 0.305) / 5, 1e-6);
    // Chance: (2*2 + 2*2 + 1*1) / 25 = 0.36.
    EXPECT_NEAR(s[Measure::kappa], (0.6 - 0.36) / 0.64, 1e-12);
    // (3*5 - 9) / sqrt((25 - 9) * (25 - 9))
    EXPECT_NEAR(s[Measure::matthews], 6.0 / 16, 1e-12);
    // Class 0: 0.72 is before all three others; 0.30 before 0.10 and 0.20, after 0.45. Class 1: 0.85 before
    // all; 0.45 after 0.62 alone. Class 2: 0.55 before all.
    EXPECT_NEAR(s[Measure::roc_auc], (5.0 / 6 + 5.0 / 6 + 1.0) / 3, 1e-12);
    // Class 0: 1/2 * 1 + 1/2 * 2/3; class 1 likewise; class 2: 1.
    EXPECT_NEAR(s[Measure::average_precision], (5.0 / 6 + 5.0 / 6 + 1.0) / 3, 1e-12);
    // Each in a bin of its own: 0.72 correct, 0.62 wrong, 0.85 correct, 0.45 wrong, 0.55 correct.
    // A gap g known with the deviation e = sqrt(p (1 - p)) counts 2 g less the mean of |normal(g, e)|, which
    // is e sqrt(2 / pi) exp(-g^2 / 2 e^2) + g erf(g / e sqrt(2)).
    const auto debiased = [](double gap, double p) {
        const double e = std::sqrt(p * (1 - p));
        return 2 * gap - e * std::sqrt(2 / std::acos(-1.0)) * std::exp(-gap * gap / 2 / e / e) -
               gap * std::erf(gap / e / std::sqrt(2.0));
    };
    EXPECT_NEAR(s[Measure::calibration_error],
                std::max(0.0, (debiased(0.28, 0.72) + debiased(0.62, 0.62) + debiased(0.15, 0.85) +
                               debiased(0.45, 0.45) + debiased(0.45, 0.55)) /
                                  5),
                1e-6);
}

TEST(Scores, TheCalibrationErrorOfCalibratedProbabilitiesMayBeZero) {
    RandomStream random({.seed = 3, .purpose = Purpose::sample});
    double sum = 0.0;
    int holds_zero = 0;
    constexpr int tables = 60;
    for (int t = 0; t < tables; ++t) {
        PredictionTable table{.classes = 2};
        for (int i = 0; i < 150; ++i) {
            const auto p = static_cast<float>(0.5 + 0.5 * random.uniform());
            table.labels.push_back(random.uniform() < static_cast<double>(p) ? 0 : 1);
            table.probabilities.insert(table.probabilities.end(), {p, 1.0F - p});
        }
        sum += evaluate(table, {}).scores[Measure::calibration_error] / tables;
        const auto interval = score_intervals(
            table, {}, {.resamples = 200})[static_cast<std::size_t>(Measure::calibration_error)];
        holds_zero += interval->low == 0.0 ? 1 : 0;
        EXPECT_GE(interval->high, interval->low);
    }
    EXPECT_LT(sum, 0.045);  // about twice that without the correction
    EXPECT_GE(holds_zero, tables * 8 / 10);
}

// Two judges of 50 cases who agree on 20 and 15 of them: the textbook table 20 5 / 10 15 with kappa 0.4.
TEST(Scores, KappaAndCorrelationOfATextbookTable) {
    PredictionTable table{.classes = 2, .labels = {}, .probabilities = {}};
    const auto add = [&](std::size_t label, std::size_t predicted, int times) {
        for (int i = 0; i < times; ++i) {
            table.labels.push_back(label);
            table.probabilities.push_back(predicted == 0 ? 0.9F : 0.1F);
            table.probabilities.push_back(predicted == 0 ? 0.1F : 0.9F);
        }
    };
    add(0, 0, 20);
    add(0, 1, 5);
    add(1, 0, 10);
    add(1, 1, 15);
    const Scores s = score_predictions(table);
    EXPECT_NEAR(s[Measure::kappa], 0.4, 1e-12);
    // Two classes: (TP TN - FP FN) / sqrt(...), Matthews (1975).
    EXPECT_NEAR(s[Measure::matthews], (20.0 * 15 - 10.0 * 5) / std::sqrt(30.0 * 25 * 25 * 20), 1e-12);
}

TEST(Scores, AgreeWithTheConfusionMatrix) {
    for (const std::size_t classes : {2, 5, 17}) {
        const PredictionTable table = random_table(200, classes, classes);
        const ConfusionMatrix matrix(classes, table.labels, table.predicted());
        const Scores s = score_predictions(table);
        EXPECT_NEAR(s[Measure::accuracy], matrix.accuracy(), 1e-12);
        EXPECT_NEAR(s[Measure::balanced_accuracy], matrix.balanced_accuracy(), 1e-12);
        EXPECT_NEAR(s[Measure::macro_f1], matrix.macro_f1(), 1e-12);
    }
}

TEST(Scores, AbsentClassesAreLeftOutOfMeans) {
    // Class 2 has neither items nor predictions; class 1 has predictions alone.
    const PredictionTable table{.classes = 3,
                                .labels = {0, 0, 0},
                                .probabilities = {0.9F, 0.1F, 0.0F, 0.8F, 0.2F, 0.0F, 0.3F, 0.7F, 0.0F}};
    const Scores s = score_predictions(table);
    EXPECT_DOUBLE_EQ(s[Measure::balanced_accuracy], 2.0 / 3);
    EXPECT_DOUBLE_EQ(s[Measure::macro_precision], (1.0 + 0.0) / 2);
    EXPECT_DOUBLE_EQ(s[Measure::macro_f1], (0.8 + 0.0) / 2);
    EXPECT_TRUE(std::isnan(s[Measure::roc_auc]));  // no class has items and others
    EXPECT_EQ(s[Measure::kappa], 0.0);
    EXPECT_EQ(s[Measure::matthews], 0.0);
}

TEST(Scores, BaselinesTakeNoLook) {
    const PredictionTable table = worked_table();
    const Scores majority = majority_baseline(table);
    EXPECT_DOUBLE_EQ(majority[Measure::accuracy], 0.4);
    EXPECT_DOUBLE_EQ(majority[Measure::balanced_accuracy], 1.0 / 3);
    EXPECT_NEAR(majority[Measure::cross_entropy], -(0.8 * std::log(0.4) + 0.2 * std::log(0.2)), 1e-12);
    EXPECT_NEAR(majority[Measure::brier], 1 - 0.16 - 0.16 - 0.04, 1e-12);
    EXPECT_DOUBLE_EQ(majority[Measure::roc_auc], 0.5);
    EXPECT_EQ(majority[Measure::kappa], 0.0);
    const Scores random = random_baseline(table);
    EXPECT_NEAR(random[Measure::accuracy], 1.0 / 3, 1e-12);
    EXPECT_NEAR(random[Measure::cross_entropy], std::log(3.0), 1e-12);
    EXPECT_NEAR(random[Measure::top_k], 2.0 / 3, 1e-12);
    EXPECT_NEAR(random[Measure::kappa], 0.0, 1e-12);
}

// The definition: pairs, counted one by one.
double pairs_in_order(const PredictionTable& table, std::size_t one) {
    double pairs = 0.0;
    double sum = 0.0;
    for (std::size_t i = 0; i < table.items(); ++i)
        for (std::size_t j = 0; j < table.items(); ++j) {
            if (table.labels[i] != one || table.labels[j] == one) continue;
            const float a = table.row(i)[one];
            const float b = table.row(j)[one];
            sum += a > b ? 1.0 : a == b ? 0.5 : 0.0;
            ++pairs;
        }
    return sum / pairs;
}

double precision_by_thresholds(const PredictionTable& table, std::size_t one) {
    const ThresholdCurve curve = threshold_curve(table, one);
    double before = 0.0;
    double sum = 0.0;
    for (const ThresholdPoint& point : curve.points) {
        sum += (curve.recall(point) - before) * curve.precision(point);
        before = curve.recall(point);
    }
    return sum;
}

TEST(Ranking, IsWhatItsDefinitionSaysWithManyTies) {
    const PredictionTable table = random_table(150, 20, 3);
    const std::vector<RankScores> ranks = rank_scores(table);
    for (std::size_t c = 0; c < table.classes; ++c) {
        ASSERT_TRUE(ranks[c].roc_auc);
        EXPECT_NEAR(*ranks[c].roc_auc, pairs_in_order(table, c), 1e-12);
        EXPECT_NEAR(*ranks[c].average_precision, precision_by_thresholds(table, c), 1e-12);
    }
}

TEST(Ranking, CountsOfItemsStandForCopies) {
    const PredictionTable table = random_table(40, 3, 5);
    PredictionTable copies{.classes = 3, .labels = {}, .probabilities = {}};
    std::vector<std::uint32_t> counts;
    for (std::size_t i = 0; i < table.items(); ++i) {
        counts.push_back(static_cast<std::uint32_t>(i % 4));
        for (std::uint32_t k = 0; k < counts.back(); ++k) {
            copies.labels.push_back(table.labels[i]);
            copies.probabilities.insert(copies.probabilities.end(), table.row(i).begin(), table.row(i).end());
        }
    }
    for (std::size_t c = 0; c < 3; ++c) {
        const RankScores weighted = ClassRanking(table, c).scores(counts);
        EXPECT_NEAR(*weighted.roc_auc, *rank_scores(copies)[c].roc_auc, 1e-12);
        EXPECT_NEAR(*weighted.average_precision, *rank_scores(copies)[c].average_precision, 1e-12);
    }
}

TEST(Intervals, TenItemsSayHowLittleIsKnown) {
    PredictionTable table = random_table(10, 2, 1);
    for (std::size_t i = 0; i < 10; ++i) {
        table.labels[i] = i % 2;
        const bool correct = i != 3;
        table.probabilities[2 * i + i % 2] = correct ? 0.9F : 0.1F;
        table.probabilities[2 * i + 1 - i % 2] = correct ? 0.1F : 0.9F;
    }
    const auto intervals = score_intervals(table);
    const auto of = [&](Measure m) { return *intervals[static_cast<std::size_t>(m)]; };
    const Interval wilson = wilson_interval(9, 10);
    EXPECT_EQ(of(Measure::accuracy).low, wilson.low);
    EXPECT_EQ(of(Measure::accuracy).high, wilson.high);
    EXPECT_LT(of(Measure::accuracy).low, 0.6);
    // Recalls 1 of [0.566, 1] and 0.8 of [0.376, 0.964]: 0.9 - sqrt(0.434^2 + 0.424^2) / 2 and so on.
    EXPECT_NEAR(of(Measure::balanced_accuracy).low, 0.9 - std::hypot(0.43449, 0.42446) / 2, 1e-3);
    EXPECT_NEAR(of(Measure::balanced_accuracy).high, 0.9 + (0.96378 - 0.8) / 2, 1e-3);
    EXPECT_LT(of(Measure::macro_f1).low, 0.75);
    EXPECT_GT(of(Measure::kappa).high - of(Measure::kappa).low, 0.3);
}

TEST(Intervals, OfTheBootstrapDependOnTheSeedAlone) {
    const PredictionTable table = random_table(60, 4, 9);
    const auto first = score_intervals(table, {}, {.resamples = 200, .seed = 3});
    set_threads(1);
    const auto again = score_intervals(table, {}, {.resamples = 200, .seed = 3});
    set_threads(2);
    const auto other = score_intervals(table, {}, {.resamples = 200, .seed = 4});
    for (const Measure m : {Measure::macro_f1, Measure::roc_auc, Measure::brier}) {
        const auto place = static_cast<std::size_t>(m);
        EXPECT_EQ(first[place]->low, again[place]->low);
        EXPECT_EQ(first[place]->high, again[place]->high);
        EXPECT_NE(first[place]->low, other[place]->low);
    }
    const auto unranked = score_intervals(table, {}, {.resamples = 50, .most_ranked = 100});
    EXPECT_FALSE(unranked[static_cast<std::size_t>(Measure::roc_auc)]);
}

// Coverage over studies drawn from a known truth: the Brier score of a fixed forecaster.
TEST(Intervals, OfTheBootstrapCoverTheTruth) {
    constexpr int studies = 400;
    int covered = 0;
    // P(label = 0) = 0.7, the forecast is always 0.6: the expected Brier score is 0.7 * 0.32 + 0.3 * 0.72.
    for (int study = 0; study < studies; ++study) {
        RandomStream random({.seed = static_cast<std::uint64_t>(study), .purpose = Purpose::sample});
        PredictionTable table{.classes = 2, .labels = {}, .probabilities = {}};
        for (int i = 0; i < 80; ++i) {
            table.labels.push_back(random.uniform() < 0.7 ? 0 : 1);
            table.probabilities.insert(table.probabilities.end(), {0.6F, 0.4F});
        }
        const auto interval =
            *score_intervals(table, {}, {.resamples = 200})[static_cast<std::size_t>(Measure::brier)];
        covered += interval.low <= 0.44 && 0.44 <= interval.high ? 1 : 0;
    }
    EXPECT_GT(covered, 0.90 * studies);
    EXPECT_LT(covered, 0.99 * studies);
}

TEST(ClassScores, HandWorked) {
    const std::vector<ClassScores> classes = score_classes(worked_table());
    EXPECT_EQ(classes[0].support, 2);
    EXPECT_EQ(classes[0].true_positives, 1);
    EXPECT_EQ(classes[0].false_positives, 1);
    EXPECT_EQ(classes[0].false_negatives, 1);
    EXPECT_DOUBLE_EQ(classes[1].precision, 0.5);
    EXPECT_DOUBLE_EQ(classes[2].f1, 1.0);
    EXPECT_EQ(classes[2].recall_interval.low, wilson_interval(1, 1).low);
    EXPECT_NEAR(*classes[0].roc_auc, 5.0 / 6, 1e-12);
}

TEST(ClassScores, StrongestConfusionsComeFirst) {
    ConfusionMatrix m(3);
    m.add(0, 1, 4);
    m.add(0, 0, 10);
    m.add(1, 2, 4);
    m.add(1, 1, 1);
    m.add(2, 0, 1);
    const std::vector<Confusion> cells = strongest_confusions(m, 2);
    ASSERT_EQ(cells.size(), 2U);
    EXPECT_EQ(cells[0].true_class, 1U);  // 4 of 5 before 4 of 14
    EXPECT_EQ(cells[0].support, 5);
    EXPECT_EQ(cells[1].true_class, 0U);
}

TEST(Predictions, WhatIsNoDistributionIsRefusedWithCounts) {
    PredictionTable table = random_table(6, 3, 1);
    require_probabilities(table);
    table.probabilities[4] = std::numeric_limits<float>::quiet_NaN();
    table.probabilities[9] = -0.1F;
    EXPECT_THAT(message_of<InputError>([&] { require_probabilities(table); }),
                AllOf(HasSubstr("2 of 6"), HasSubstr("item 2")));
    table = random_table(6, 3, 1);
    table.probabilities[15] += 0.1F;
    EXPECT_THAT(message_of<InputError>([&] { require_probabilities(table); }),
                AllOf(HasSubstr("1 of 6 predictions do not sum to 1"), HasSubstr("item 6 with 1.1")));
    table = random_table(6, 3, 1);
    table.labels[2] = 3;
    EXPECT_THAT(message_of<InputError>([&] { require_probabilities(table); }), HasSubstr("item 3 has 3"));
    table.probabilities.pop_back();
    EXPECT_THAT(message_of<InputError>([&] { require_probabilities(table); }), HasSubstr("do not fit"));
}

TEST(Predictions, OutOfStepWithItemsAreRefusedWithCounts) {
    const std::vector<std::string> items = {"a", "b", "c"};
    EXPECT_EQ(places_of_items(items, std::vector<std::string>{"c", "a", "b"}),
              (std::vector<std::size_t>{1, 2, 0}));
    EXPECT_THAT(message_of<InputError>([&] {
                    places_of_items(items, std::vector<std::string>{"c", "c", "x", "y", "b"});
                }),
                AllOf(HasSubstr("1 missing ('a')"), HasSubstr("1 given more than once ('c')"),
                      HasSubstr("2 of unknown items ('x', 'y')")));
}

TEST(Thresholds, WantedPrecisionAndRecallOfAHandWorkedCurve) {
    // Probabilities of class 1: 0.9+ 0.8- 0.8+ 0.6+ 0.5- 0.2-, + of the class.
    PredictionTable table{.classes = 2, .labels = {1, 0, 1, 1, 0, 0}, .probabilities = {}};
    for (const float p : {0.9F, 0.8F, 0.8F, 0.6F, 0.5F, 0.2F})
        table.probabilities.insert(table.probabilities.end(), {1.0F - p, p});
    const ThresholdCurve curve = threshold_curve(table, 1);
    ASSERT_EQ(curve.points.size(), 5U);  // equal ones enter together
    EXPECT_EQ(curve.positives, 3);
    EXPECT_EQ(curve.negatives, 3);
    EXPECT_DOUBLE_EQ(curve.precision(curve.points[1]), 2.0 / 3);
    EXPECT_DOUBLE_EQ(curve.false_positive_rate(curve.points[1]), 1.0 / 3);
    // Precisions: 1, 2/3, 3/4, 3/5, 1/2. Of those from 0.7 on, the third has the highest recall.
    EXPECT_FLOAT_EQ(static_cast<float>(point_of_precision(curve, 0.7)->threshold), 0.6F);
    EXPECT_FLOAT_EQ(static_cast<float>(point_of_precision(curve, 1.0)->threshold), 0.9F);
    EXPECT_FLOAT_EQ(static_cast<float>(point_of_recall(curve, 0.5)->threshold), 0.6F);  // 3/4 beats 2/3
    EXPECT_FLOAT_EQ(static_cast<float>(point_of_recall(curve, 0.3)->threshold), 0.9F);
    EXPECT_FALSE(point_of_precision(threshold_curve(table, 0), 1.1));
    // Also the last ones, where they are equal.
    table.labels = {1, 0, 1};
    table.probabilities = {0.25F, 0.75F, 0.5F, 0.5F, 0.5F, 0.5F};
    EXPECT_EQ(threshold_curve(table, 1).points.size(), 2U);
}

TEST(Thresholds, AnsweringOnlyWhenSure) {
    const std::vector<CoveragePoint> curve = coverage_curve(worked_table());
    // Confidences 0.85+ 0.72+ 0.62- 0.55+ 0.45-.
    ASSERT_EQ(curve.size(), 5U);
    EXPECT_EQ(curve[2].answered, 3);
    EXPECT_EQ(curve[2].correct, 2);
    EXPECT_EQ(point_of_accuracy(curve, 0.75)->answered, 4);
    EXPECT_EQ(point_of_coverage(curve, 0.6)->answered, 4);  // 3/4 beats 2/3
    EXPECT_FALSE(point_of_accuracy(curve, 1.1));
}

TEST(Calibration, TheTemperatureThatWasAppliedIsFound) {
    // Labels drawn from the probabilities themselves: these are calibrated; sharpening them is undone.
    PredictionTable honest = random_table(4000, 4, 12);
    RandomStream random({.seed = 2, .purpose = Purpose::sample});
    for (std::size_t i = 0; i < honest.items(); ++i) {
        double left = random.uniform();
        std::size_t label = 0;
        while (label + 1 < 4 && (left -= static_cast<double>(honest.row(i)[label])) >= 0.0) ++label;
        honest.labels[i] = label;
    }
    EXPECT_NEAR(fit_temperature(honest), 1.0, 0.06);
    const PredictionTable sharp = with_temperature(honest, 0.4);
    EXPECT_NEAR(fit_temperature(sharp), 2.5, 0.15);
    EXPECT_GT(calibration_error(reliability(sharp)), 3 * calibration_error(reliability(honest)));
    const PredictionTable back = with_temperature(sharp, 2.5);
    for (std::size_t i = 0; i < 40; ++i) EXPECT_NEAR(back.probabilities[i], honest.probabilities[i], 1e-5);
    EXPECT_EQ(sharp.predicted(), honest.predicted());
}

TEST(Calibration, BinsHaveEqualWidthsAndAnItemAtABorderCountsBelowIt) {
    const PredictionTable table{
        .classes = 2,
        .labels = {0, 1, 0, 1, 0},
        .probabilities = {0.75F, 0.25F, 0.125F, 0.875F, 0.25F, 0.75F, 0.0F, 1.0F, 0.625F, 0.375F}};
    const std::vector<ReliabilityBin> bins = reliability(table, 4);
    ASSERT_EQ(bins.size(), 4U);
    for (std::size_t b = 0; b < 4; ++b) {
        EXPECT_DOUBLE_EQ(bins[b].low, static_cast<double>(b) * 0.25);
        EXPECT_DOUBLE_EQ(bins[b].high, static_cast<double>(b + 1) * 0.25);
    }
    EXPECT_EQ(bins[0].items + bins[1].items, 0);
    EXPECT_EQ(bins[2].items, 3);
    EXPECT_EQ(bins[2].correct, 2);
    EXPECT_DOUBLE_EQ(bins[2].confidence, (0.75 + 0.75 + 0.625) / 3);
    EXPECT_EQ(bins[3].items, 2);
    EXPECT_EQ(bins[3].correct, 2);
    EXPECT_DOUBLE_EQ(bins[3].confidence, 0.9375);
}

TEST(Calibration, FewItemsOrNoMistakesChangeNothing) {
    PredictionTable table = random_table(19, 3, 4);
    EXPECT_EQ(fit_temperature(table), 1.0);
    table = random_table(50, 3, 4);
    table.labels = table.predicted();
    EXPECT_EQ(fit_temperature(table), 1.0);
    for (std::size_t& label : table.labels) label = (label + 1) % 3;
    EXPECT_LE(fit_temperature(table), 10.0);  // always wrong: as unsure as may be
    EXPECT_GT(fit_temperature(table), 9.0);
}

TEST(SuspectLabels, ChangedLabelsAreFound) {
    PredictionTable table{.classes = 4, .labels = {}, .probabilities = {}};
    RandomStream random({.seed = 6, .purpose = Purpose::sample});
    std::vector<std::size_t> truth;
    for (std::size_t i = 0; i < 400; ++i) {
        truth.push_back(i % 4);
        table.labels.push_back(i % 4);
        std::vector<float> row(4, 0.05F);
        // A model that is usually correct, and sure to a varying degree.
        const bool correct = random.uniform() < 0.9;
        row[correct ? truth[i] : random.below(4)] += static_cast<float>(0.3 + 0.5 * random.uniform());
        const float sum = std::accumulate(row.begin(), row.end(), 0.0F);
        for (const float p : row) table.probabilities.push_back(p / sum);
    }
    std::vector<std::size_t> changed;
    for (std::size_t i = 7; i < 400; i += 40) {
        changed.push_back(i);
        table.labels[i] = (table.labels[i] + 1) % 4;
    }
    const std::vector<SuspectLabel> suspects = find_suspect_labels(table);
    std::size_t found = 0;
    for (const SuspectLabel& suspect : suspects) {
        EXPECT_NE(suspect.proposed, suspect.label);
        EXPECT_EQ(table.labels[suspect.item], suspect.label);
        found += static_cast<std::size_t>(std::count(changed.begin(), changed.end(), suspect.item));
    }
    EXPECT_GE(found, changed.size() - 2);
    EXPECT_LT(suspects.size(), 70U);
    EXPECT_TRUE(std::is_sorted(suspects.begin(), suspects.end(), [](const auto& a, const auto& b) {
        return a.label_probability < b.label_probability;
    }));
}

TEST(SuspectLabels, HandWorkedShareOfAClass) {
    // Means of class 0: (0.9 + 0.8 + 0.45 + 0.25) / 4 = 0.6; of class 1: (0.6 + 0.7) / 2 = 0.65. Of the items
    // labelled 0 the first two count for 0, the fourth for 1, the third for nothing: a third of four items,
    // rounded, is one, the least probable.
    PredictionTable table{.classes = 2, .labels = {0, 0, 0, 0, 1, 1}, .probabilities = {}};
    for (const float p : {0.9F, 0.8F, 0.45F, 0.25F, 0.4F, 0.3F})
        table.probabilities.insert(table.probabilities.end(), {p, 1.0F - p});
    const std::vector<SuspectLabel> suspects = find_suspect_labels(table);
    ASSERT_EQ(suspects.size(), 1U);
    EXPECT_EQ(suspects[0].item, 3U);
    EXPECT_EQ(suspects[0].proposed, 1U);
    EXPECT_FLOAT_EQ(static_cast<float>(suspects[0].label_probability), 0.25F);
    EXPECT_FLOAT_EQ(static_cast<float>(suspects[0].proposed_probability), 0.75F);
}

TEST(SuspectLabels, AnItemTornBetweenTwoOtherClassesIsFound) {
    // The last item reaches no class's mean, but its label is out of the question.
    PredictionTable table{.classes = 3, .labels = {}, .probabilities = {}};
    const auto add = [&](std::size_t label, float a, float b, float c) {
        table.labels.push_back(label);
        table.probabilities.insert(table.probabilities.end(), {a, b, c});
    };
    for (int i = 0; i < 5; ++i) {
        add(0, 0.9F, 0.05F, 0.05F);
        add(1, 0.05F, 0.9F, 0.05F);
        add(2, 0.05F, 0.05F, 0.9F);
    }
    add(0, 0.04F, 0.95F, 0.01F);
    add(0, 0.0F, 0.52F, 0.48F);
    const std::vector<SuspectLabel> suspects = find_suspect_labels(table);
    ASSERT_EQ(suspects.size(), 1U);
    EXPECT_EQ(suspects[0].item, 16U);
}

TEST(ClassOrder, ConfusedClassesBecomeNeighbours) {
    ConfusionMatrix m(6);
    for (std::size_t c = 0; c < 6; ++c) m.add(c, c, 10);
    m.add(0, 4, 5);
    m.add(4, 2, 3);
    m.add(5, 1, 2);
    m.add(0, 2, 1);  // both ends of one chain already
    EXPECT_EQ(order_by_confusion(m), (std::vector<std::size_t>{0, 4, 2, 1, 5, 3}));
    EXPECT_EQ(order_by_confusion(ConfusionMatrix(3)), (std::vector<std::size_t>{0, 1, 2}));
    const ConfusionMatrix turned = reordered(m, order_by_confusion(m));
    EXPECT_EQ(turned.at(0, 1), 5);
    EXPECT_EQ(turned.at(4, 3), 2);
    EXPECT_EQ(turned.total(), m.total());
}

}  // namespace
}  // namespace jevrin
