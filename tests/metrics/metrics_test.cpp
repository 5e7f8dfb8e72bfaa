#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/metrics/crossed.hpp"
#include "jevrin/metrics/influence.hpp"
#include "jevrin/metrics/intervals.hpp"
#include "jevrin/metrics/significance.hpp"

#include <cmath>

namespace jevrin {
namespace {

using test::message_of;
using testing::HasSubstr;

ConfusionMatrix worked() {
    // Rows: 5 1 0 / 2 6 2 / 0 0 4.
    ConfusionMatrix m(3);
    m.add(0, 0, 5);
    m.add(0, 1, 1);
    m.add(1, 0, 2);
    m.add(1, 1, 6);
    m.add(1, 2, 2);
    m.add(2, 2, 4);
    return m;
}

TEST(ConfusionMatrix, HandWorkedScores) {
    const ConfusionMatrix m = worked();
    EXPECT_EQ(m.total(), 20);
    EXPECT_EQ(m.correct(), 15);
    EXPECT_DOUBLE_EQ(m.accuracy(), 0.75);
    EXPECT_DOUBLE_EQ(m.balanced_accuracy(), (5.0 / 6 + 0.6 + 1.0) / 3);
    EXPECT_DOUBLE_EQ(m.precision(0), 5.0 / 7);
    EXPECT_DOUBLE_EQ(m.f1(1), 12.0 / 17);
    EXPECT_DOUBLE_EQ(m.macro_f1(), (10.0 / 13 + 12.0 / 17 + 8.0 / 10) / 3);
}

TEST(ConfusionMatrix, AbsentClassesAndEmptyMatricesAreDefined) {
    ConfusionMatrix m(3);
    EXPECT_EQ(m.accuracy(), 0.0);
    EXPECT_EQ(m.balanced_accuracy(), 0.0);
    m.add(0, 0, 3);
    m.add(0, 2, 1);
    EXPECT_DOUBLE_EQ(m.balanced_accuracy(), 0.75);        // classes without items are left out
    EXPECT_DOUBLE_EQ(m.macro_f1(), (6.0 / 7 + 0.0) / 2);  // class 2 has a prediction, class 1 nothing
    EXPECT_EQ(m.recall(1), 0.0);
}

TEST(Metric, NamesGoRoundAndMisspeltOnesAreHelped) {
    for (const Metric metric : {Metric::accuracy, Metric::balanced_accuracy, Metric::macro_f1})
        EXPECT_EQ(value_named<Metric>(name_of(metric)), metric);
    EXPECT_THAT(message_of<InputError>([] { value_named<Metric>("balanced_acuracy"); }),
                HasSubstr("'balanced_accuracy'"));
}

TEST(Intervals, StudentsTForAKnownSample) {
    // 1, 2, 3: mean 2, standard error 1/sqrt(3), t(2, 0.975) = 4.302653.
    const MeanInterval m = mean_interval(std::vector<double>{1, 2, 3});
    EXPECT_DOUBLE_EQ(m.mean, 2.0);
    EXPECT_NEAR(m.interval->high - 2.0, 4.302653 / std::sqrt(3.0), 1e-6);
    EXPECT_FALSE(mean_interval(std::vector<double>{5}).interval.has_value());
}

TEST(Intervals, WilsonAsPublished) {
    // Newcombe 1998, table I: 81 of 263 gives 0.2553 to 0.3662; 0 of 20 gives 0 to 0.1611; 1 of 29 gives
    // 0.0061 to 0.1718.
    const Interval a = wilson_interval(81, 263);
    EXPECT_NEAR(a.low, 0.2553, 5e-5);
    EXPECT_NEAR(a.high, 0.3662, 5e-5);
    const Interval b = wilson_interval(0, 20);
    EXPECT_NEAR(b.low, 0.0, 1e-12);
    EXPECT_NEAR(b.high, 0.1611, 5e-5);
    const Interval c = wilson_interval(1, 29);
    EXPECT_NEAR(c.low, 0.0061, 5e-5);
    EXPECT_NEAR(c.high, 0.1718, 5e-5);
    EXPECT_EQ(wilson_interval(0, 0).high, 1.0);
}

TEST(CrossedInterval, HandWorkedMeanSquares) {
    // Two seeds, two items: 1 0 / 0 0. Mean 1/4; MS_seeds = MS_items = MS_rest = 1/4, so the variance of the
    // mean is (1/4 + 1/4 - 1/4) / 4, not above the floor 1/16: freedom 1, t = 12.7062.
    const std::vector<double> first = {1, 0};
    const std::vector<double> second = {0, 0};
    const CrossedEstimate c = crossed_mean({first, second});
    EXPECT_DOUBLE_EQ(c.mean, 0.25);
    EXPECT_NEAR(c.interval.high - c.mean, 12.7062 * 0.25, 1e-4);
    EXPECT_EQ(crossed_mean({first}).seeds, 1);
}

TEST(CrossedInterval, CoversTheTruthAboutAsOftenAsItSays) {
    // Equal candidates, 3 seeds, 100 items; seed and item effects in a logit-free additive model, 600
    // studies.
    int covered = 0;
    constexpr int studies = 600;
    for (std::uint64_t study = 0; study < studies; ++study) {
        RandomStream random({study, Purpose::bootstrap, 0, 0});
        std::vector<double> items(100);
        for (double& v : items) v = 0.3 * random.normal();
        std::vector<std::vector<double>> table;
        for (int s = 0; s < 3; ++s) {
            const double seed = 0.03 * random.normal();
            table.emplace_back();
            for (const double item : items) table.back().push_back(seed + item + 0.3 * random.normal());
        }
        const CrossedEstimate c = crossed_mean({table.begin(), table.end()});
        covered += c.interval.low <= 0 && c.interval.high >= 0;
    }
    EXPECT_GE(covered, studies * 0.92);
    EXPECT_LE(covered, studies * 0.99);
}

TEST(CrossedDifference, HandWorked) {
    // Two seeds, three items each. First: rows 1 1 0 / 1 0 0, second: 0 0 0 / 0 1 0.
    const std::vector<double> a = {1, 1, 0};
    const std::vector<double> b = {1, 0, 0};
    const std::vector<double> c = {0, 0, 0};
    const std::vector<double> d = {0, 1, 0};
    const CrossedEstimate e = crossed_difference({a, b}, {c, d});
    EXPECT_NEAR(e.mean, 0.5 - 1.0 / 6, 1e-12);
    // Seed means 2/3, 1/3 and 0, 1/3: each of variance 1/18, over two seeds 1/36. Item means 1, 1/2, 0 and 0,
    // 1/2, 0: differences 1, 0, 0, squares 2/3, which is less than that of an item on which they differ: 1
    // over two degrees of freedom and three items. The rest of each: residuals of 1/6 and 1/3, squares 6/18
    // in all over (2 - 1) * (3 - 1), so 1/6; over 2 * 3 cells 1/36 each.
    EXPECT_NEAR(e.variance, 2.0 / 36 + 1.0 / 6 - 2.0 / 36, 1e-12);
    EXPECT_EQ(e.seeds, 2);
    EXPECT_EQ(e.units, 3);
    // With a single seed on one side the items alone count.
    const CrossedEstimate one = crossed_difference({a}, {c, d});
    EXPECT_EQ(one.seeds, 1);
    EXPECT_NEAR(one.degrees_of_freedom, 2.0, 1e-12);
    // Equal tables differ nowhere, and the interval is that of one item on which they do: its squares, 1,
    // over two degrees of freedom and three items.
    const CrossedEstimate none = crossed_difference({a, a}, {a, a});
    EXPECT_EQ(none.mean, 0.0);
    EXPECT_EQ(none.p_value, 1.0);
    EXPECT_NEAR(none.variance, 1.0 / 6, 1e-12);
}

TEST(StratifiedVariance, HandWorked) {
    // Two classes of three and one items: values 1, 0, 0 in the first. On the scale of the first class's own
    // mean (2 classes * 3 / 4) the squares are 2.25 * 2 / 3 = 1.5 over 2 degrees of freedom: pooled 0.75.
    // s_1^2 = (1.5 + 4 * 0.75) / 6 = 0.75, s_2^2 = (0 + 4 * 0.75) / 4 = 0.75; the variance of the mean is
    // 0.75 / (4 * 3) + 0.75 / (4 * 1) = 0.25.
    const std::vector<double> values = {1, 0, 0, 5};
    const std::vector<std::uint32_t> strata = {0, 0, 0, 1};
    const VarianceTerm term = stratified_variance(values, strata);
    EXPECT_NEAR(term.value, 0.25, 1e-12);
    EXPECT_NEAR(term.degrees_of_freedom, 2.0, 1e-12);  // never more than the pooled variance has
    // Without strata it is the variance of a mean.
    EXPECT_NEAR(stratified_variance(std::vector<double>{1, 2, 3}, {}).value, 1.0 / 3, 1e-12);
    // Classes of one item each say nothing of the variance within: then it is that of all.
    const std::vector<std::uint32_t> alone = {0, 1, 2};
    EXPECT_NEAR(stratified_variance(std::vector<double>{1, 2, 3}, alone).value, 1.0 / 3, 1e-12);
    // A least number of squares counts where there are fewer.
    EXPECT_NEAR(stratified_variance(std::vector<double>{1, 1, 1}, {}, 1.0).value, 1.0 / 2 / 3, 1e-12);
    EXPECT_NEAR(stratified_variance(std::vector<double>{1, 2, 3}, {}, 1.0).value, 1.0 / 3, 1e-12);
}

TEST(ModeratedSeeds, BorrowFromEachOther) {
    // Three tables of three seeds that vary alike, but for chance: none keeps a variance that is far below.
    const auto table = [](double variance) {
        return CrossedTable{.seeds = 3,
                            .strata = {},
                            .stratum_units = {2.0},
                            .unit_means = {0.0, 1.0},
                            .items = 2.0,
                            .of_seed = {variance, 2.0},
                            .of_seed_alone = {variance, 2.0}};
    };
    std::vector<CrossedTable> tables = {table(1e-4), table(2e-4), table(3e-5)};
    moderate_seeds({&tables[0], &tables[1], &tables[2]});
    EXPECT_GT(tables[2].of_seed.value, 5e-5);
    EXPECT_GT(tables[2].of_seed.degrees_of_freedom, 2.0);
    EXPECT_GE(tables[0].of_seed.value, 1e-4);
    EXPECT_GE(tables[1].of_seed.value, 2e-4);
    // Seeds that all agree stay as they are: nothing was drawn.
    std::vector<CrossedTable> steady = {table(1e-4), table(2e-4), table(0.0)};
    moderate_seeds({&steady[0], &steady[1], &steady[2]});
    EXPECT_EQ(steady[2].of_seed.value, 0.0);
    // Of two only what is said of each by itself changes.
    std::vector<CrossedTable> two = {table(1e-4), table(2e-4)};
    moderate_seeds({&two[0], &two[1]});
    EXPECT_EQ(two[0].of_seed.value, 1e-4);
    EXPECT_GT(two[0].of_seed_alone.value, 1e-4);
    // Smyth (2004), worked by hand for 2 degrees of freedom each, digamma(1) = -0.57721566, trigamma(1) =
    // 1.64493407. Variances that are all equal have exp(-digamma(1)) of it in common, with 3 degrees.
    std::vector<CrossedTable> equal = {table(1e-4), table(1e-4), table(1e-4)};
    moderate_seeds({&equal[0], &equal[1], &equal[2]});
    EXPECT_NEAR(equal[1].of_seed.value, 1.78107242e-4, 1e-11);
    EXPECT_NEAR(equal[1].of_seed.degrees_of_freedom, 3.0, 1e-9);
    // Logarithms -6, 0 and 6: their variance is 36, trigamma(prior / 2) = 36 - trigamma(1), prior =
    // 0.34790209, in common exp(-digamma(1) + digamma(prior / 2) - log(prior / 2)) = 0.02363299.
    std::vector<CrossedTable> unlike = {table(std::exp(-6.0)), table(1.0), table(std::exp(6.0))};
    moderate_seeds({&unlike[0], &unlike[1], &unlike[2]});
    EXPECT_NEAR(unlike[0].of_seed.value, (0.34790209 * 0.02363299 + 2 * std::exp(-6.0)) / 2.34790209, 1e-8);
    EXPECT_NEAR(unlike[0].of_seed.degrees_of_freedom, 2.34790209, 1e-6);
    EXPECT_EQ(unlike[1].of_seed.value, 1.0);  // never smaller than its own
    EXPECT_EQ(unlike[1].of_seed.degrees_of_freedom, 2.0);
}

TEST(ScoreInterval, IsWilsonsWithTheEffectiveSampleSize) {
    // A fraction of 0.3 on 50 items as independent as items can be, with many degrees of freedom: Wilson's.
    // The unit of which nothing is known changes it little.
    const Interval plain = wilson_interval(15, 50);
    const Interval ours = score_interval(0.3, 0.3 * 0.7 / 50, 1e6, 50);
    EXPECT_NEAR(ours.low, plain.low, 1e-4);
    EXPECT_NEAR(ours.high, plain.high, 1e-4);
    // Half as many effective items.
    const Interval half = score_interval(0.3, 0.3 * 0.7 / 25, 1e6, 50);
    EXPECT_NEAR(half.high - half.low, wilson_interval(75, 250).high - wilson_interval(75, 250).low, 0.25);
    EXPECT_GT(half.high - half.low, 1.3 * (ours.high - ours.low));
    // At the ceiling nothing varies, and it is as wide as for so many items.
    const Interval top = score_interval(1.0, 0.0, 1e6, 60);
    EXPECT_EQ(top.high, 1.0);
    EXPECT_NEAR(top.low, wilson_interval(60, 60).low, 1e-4);
}

TEST(ExactInterval, AsPublished) {
    // Clopper & Pearson: 1 of 10 is 0.0025 to 0.4450, 0 of 5 is 0 to 0.5218.
    EXPECT_NEAR(exact_interval(1, 10).low, 0.0025, 5e-5);
    EXPECT_NEAR(exact_interval(1, 10).high, 0.4450, 5e-5);
    EXPECT_EQ(exact_interval(0, 5).low, 0.0);
    EXPECT_NEAR(exact_interval(0, 5).high, 0.5218, 5e-5);
    EXPECT_EQ(exact_interval(5, 5).high, 1.0);
}

TEST(Significance, HolmAsPublished) {
    // Holm's procedure by hand: 0.01 * 4, 0.02 * 3, 0.03 * 2, and 0.04 at least as large as the one before.
    const std::vector<double> adjusted = holm_adjusted(std::vector<double>{0.03, 0.01, 0.04, 0.02});
    const std::vector<double> expected = {0.06, 0.04, 0.06, 0.06};
    for (std::size_t i = 0; i < 4; ++i) EXPECT_NEAR(adjusted[i], expected[i], 1e-12);
    EXPECT_EQ(holm_adjusted(std::vector<double>{0.7, 0.9}).at(0), 1.0);
    EXPECT_TRUE(holm_adjusted(std::vector<double>{}).empty());
}

TEST(Significance, McNemarIsExact) {
    // Of 8 that differ 1 against 7: 2 * (1 + 8) / 256; 10 against 0: 2 / 1024; even: 1.
    EXPECT_NEAR(mcnemar_p_value(1, 7), 18.0 / 256, 1e-12);
    EXPECT_NEAR(mcnemar_p_value(10, 0), 2.0 / 1024, 1e-12);
    EXPECT_EQ(mcnemar_p_value(4, 4), 1.0);
    EXPECT_EQ(mcnemar_p_value(0, 0), 1.0);
}

TEST(Influence, IsTheDerivativeOfEveryScoreByTheWeightOfAnItem) {
    RandomStream random({9, Purpose::sample, 0, 0});
    std::vector<std::size_t> labels = {4, 0, 1, 2, 3, 0, 1, 2, 3};  // class 4 has a single item
    std::vector<std::size_t> predicted = {1, 0, 1, 2, 4,
                                          5, 1, 0, 3};  // class 5 is predicted once and has none
    for (int i = 0; i < 40; ++i) {
        labels.push_back(random.below(4));
        predicted.push_back(random.uniform() < 0.6 ? labels.back() : random.below(4));
    }
    const auto n = static_cast<double>(labels.size());
    // Every item a million times, and one of them once more: a difference quotient.
    constexpr std::int64_t often = 1'000'000;
    for (const Metric metric : {Metric::accuracy, Metric::balanced_accuracy, Metric::macro_f1}) {
        const auto values = item_influences(6, labels, predicted, metric);
        ConfusionMatrix matrix(6);
        for (std::size_t i = 0; i < labels.size(); ++i) matrix.add(labels[i], predicted[i], often);
        const double all = score(matrix, metric);
        double mean = 0.0;
        for (std::size_t i = 0; i < labels.size(); ++i) {
            matrix.add(labels[i], predicted[i], 1);
            const double more = score(matrix, metric);
            matrix.add(labels[i], predicted[i], -2);
            const double derivative = often * (more - score(matrix, metric)) / 2;
            matrix.add(labels[i], predicted[i], 1);
            EXPECT_NEAR(values[i], all + n * derivative, 1e-5) << name_of(metric) << " item " << i;
            mean += values[i] / n;
        }
        EXPECT_NEAR(mean, all, 1e-12) << name_of(metric);
    }
}

TEST(Influence, ForAccuracyItIsRightOrWrong) {
    const std::vector<std::size_t> labels = {0, 0, 1, 1, 1};
    const std::vector<std::size_t> predicted = {0, 1, 1, 1, 0};
    const auto values = item_influences(2, labels, predicted, Metric::accuracy);
    const std::vector<double> expected = {1, 0, 1, 1, 0};
    for (std::size_t i = 0; i < 5; ++i) EXPECT_NEAR(values[i], expected[i], 1e-12);
}

TEST(Influence, StrataAreTheClassesOfScoresOverClasses) {
    const std::vector<std::size_t> labels = {0, 2, 1, 1};
    EXPECT_TRUE(item_strata(labels, Metric::accuracy).empty());
    EXPECT_EQ(item_strata(labels, Metric::balanced_accuracy), (std::vector<std::uint32_t>{0, 2, 1, 1}));
}

TEST(ClassCounts, GiveTheScoresOfTheMatrixThatTheyAreOf) {
    // By hand: classes of 4, 2 and 0 items; 3 and 1 of them are correct, and class 2 is predicted once.
    ClassCounts counts = ClassCounts::of_classes(3);
    ConfusionMatrix matrix(3);
    for (const auto& [label, prediction] :
         std::vector<std::pair<std::size_t, std::size_t>>{{0, 0}, {0, 0}, {0, 0}, {0, 1}, {1, 1}, {1, 2}}) {
        counts.add(label, prediction);
        matrix.add(label, prediction);
    }
    EXPECT_EQ(counts.total(), 6);
    EXPECT_EQ(matrix.counts().labelled, counts.labelled);
    EXPECT_EQ(matrix.counts().predicted, counts.predicted);
    EXPECT_EQ(matrix.counts().correct, counts.correct);
    const MetricScores scores = scores_by_metric(counts);
    EXPECT_DOUBLE_EQ(scores[Metric::accuracy], 4.0 / 6);
    EXPECT_DOUBLE_EQ(scores[Metric::balanced_accuracy], (3.0 / 4 + 1.0 / 2) / 2);
    EXPECT_DOUBLE_EQ(scores[Metric::macro_f1], (6.0 / 7 + 2.0 / 4 + 0.0) / 3);
    for (const Metric metric : all_metrics) EXPECT_EQ(score(matrix, metric), scores[metric]);
    EXPECT_EQ(score(ClassCounts(), Metric::macro_f1), 0.0);
}

TEST(Metrics, StandInTheirListAndInTheOrderOfTheirScores) {
    ASSERT_EQ(names_of(Metric{}).values().size(), std::size(all_metrics));
    for (std::size_t m = 0; m < std::size(all_metrics); ++m) {
        EXPECT_EQ(static_cast<std::size_t>(all_metrics[m]), m);
        EXPECT_EQ(names_of(Metric{}).values()[m], all_metrics[m]);
    }
}

}  // namespace
}  // namespace jevrin
