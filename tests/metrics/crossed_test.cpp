// Estimates over seeds and items, and the corrected resampled test: held against formulas, limits and studies
// drawn from known effects.
#include "jevrin/metrics/crossed.hpp"

#include "jevrin/base/random.hpp"
#include "jevrin/metrics/intervals.hpp"
#include "jevrin/metrics/significance.hpp"

#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace jevrin {
namespace {

using Table = std::vector<std::vector<double>>;

SeedsByUnits rows_of(const Table& table) {
    return {table.begin(), table.end()};
}

// Effects of seeds and of both together around those of the items.
Table drawn(RandomStream& random, const std::vector<double>& items, int seeds, double of_seed, double of_both,
            double level = 0.0) {
    Table table;
    for (int s = 0; s < seeds; ++s) {
        const double seed = of_seed * random.normal();
        table.emplace_back();
        for (const double item : items)
            table.back().push_back(level + item + seed + of_both * random.normal());
    }
    return table;
}

std::vector<double> item_effects(RandomStream& random, std::size_t count, double deviation) {
    std::vector<double> effects(count);
    for (double& effect : effects) effect = deviation * random.normal();
    return effects;
}

TEST(CrossedMean, IsTheMeanOfTheTable) {
    RandomStream random({1, Purpose::sample, 0, 0});
    const Table table = drawn(random, item_effects(random, 30, 0.3), 4, 0.1, 0.2, 0.7);
    double sum = 0.0;
    for (const auto& row : table) sum += std::accumulate(row.begin(), row.end(), 0.0);
    const CrossedEstimate estimate = crossed_mean(rows_of(table));
    EXPECT_NEAR(estimate.mean, sum / 120, 1e-12);
    EXPECT_EQ(estimate.seeds, 4);
    EXPECT_EQ(estimate.units, 30);
    EXPECT_NEAR((estimate.interval.low + estimate.interval.high) / 2, estimate.mean, 1e-12);
}

TEST(CrossedMean, KnowsItsComponents) {
    // So many items and seeds that the components can be told: deviations 0.3, 0.1 and 0.2.
    RandomStream random({2, Purpose::sample, 0, 0});
    const CrossedEstimate estimate =
        crossed_mean(rows_of(drawn(random, item_effects(random, 3000, 0.3), 400, 0.1, 0.2)));
    EXPECT_NEAR(estimate.unit_component, 0.09, 0.01);
    EXPECT_NEAR(estimate.seed_component, 0.01, 0.0025);
    EXPECT_NEAR(estimate.rest_component, 0.04, 0.001);
    EXPECT_NEAR(
        estimate.variance,
        estimate.seed_component / 400 + estimate.unit_component / 3000 + estimate.rest_component / 1.2e6,
        1e-9);
}

TEST(CrossedMean, WithoutAnyVariationIsCertain) {
    const Table same(3, std::vector<double>(5, 0.25));
    const CrossedEstimate estimate = crossed_mean(rows_of(same));
    EXPECT_EQ(estimate.mean, 0.25);
    EXPECT_EQ(estimate.interval.low, 0.25);
    EXPECT_EQ(estimate.interval.high, 0.25);
    EXPECT_EQ(estimate.p_value, 0.0);
}

TEST(CrossedDifference, OfOneSeedEachIsThePairedTTestOverItems) {
    const std::vector<double> a = {1, 1, 0, 1, 1, 0, 1, 1};
    const std::vector<double> b = {0, 1, 0, 0, 1, 1, 0, 1};
    std::vector<double> differences;
    for (std::size_t i = 0; i < a.size(); ++i) differences.push_back(a[i] - b[i]);
    const CrossedEstimate estimate = crossed_difference({a}, {b});
    const MeanInterval paired = mean_interval(differences);
    EXPECT_NEAR(estimate.mean, paired.mean, 1e-12);
    EXPECT_NEAR(estimate.interval.low, paired.interval->low, 1e-12);
    EXPECT_NEAR(estimate.interval.high, paired.interval->high, 1e-12);
}

TEST(CrossedDifference, TurnsItsSignWithItsSides) {
    RandomStream random({3, Purpose::sample, 0, 0});
    const std::vector<double> items = item_effects(random, 25, 0.4);
    const Table a = drawn(random, items, 3, 0.1, 0.3, 0.2);
    const Table b = drawn(random, items, 5, 0.05, 0.3);
    const CrossedEstimate ab = crossed_difference(rows_of(a), rows_of(b));
    const CrossedEstimate ba = crossed_difference(rows_of(b), rows_of(a));
    EXPECT_NEAR(ab.mean, -ba.mean, 1e-12);
    EXPECT_NEAR(ab.variance, ba.variance, 1e-15);
    EXPECT_NEAR(ab.p_value, ba.p_value, 1e-12);
    EXPECT_NEAR(ab.interval.low, -ba.interval.high, 1e-12);
    EXPECT_EQ(ab.seeds, 3);
}

TEST(CrossedDifference, DoesNotDependOnTheOrderOfSeedsOrItems) {
    RandomStream random({4, Purpose::sample, 0, 0});
    const std::vector<double> items = item_effects(random, 12, 0.4);
    Table a = drawn(random, items, 3, 0.1, 0.3);
    Table b = drawn(random, items, 3, 0.1, 0.3);
    const CrossedEstimate before = crossed_difference(rows_of(a), rows_of(b));
    std::reverse(a.begin(), a.end());  // seeds of one side alone: they are not paired
    for (Table* table : {&a, &b})
        for (auto& row : *table) std::reverse(row.begin(), row.end());
    const CrossedEstimate after = crossed_difference(rows_of(a), rows_of(b));
    EXPECT_NEAR(before.mean, after.mean, 1e-12);
    EXPECT_NEAR(before.variance, after.variance, 1e-15);
    EXPECT_NEAR(before.degrees_of_freedom, after.degrees_of_freedom, 1e-9);
}

TEST(CrossedDifference, ItsIntervalEndsAtZeroWhereItsPValueIsFivePercent) {
    RandomStream random({5, Purpose::sample, 0, 0});
    const std::vector<double> items = item_effects(random, 40, 0.3);
    const Table a = drawn(random, items, 4, 0.1, 0.3);
    const Table b = drawn(random, items, 4, 0.1, 0.3);
    const CrossedEstimate estimate = crossed_difference(rows_of(a), rows_of(b));
    // Moved so that the lower end is 0.
    Table moved = a;
    for (auto& row : moved)
        for (double& value : row) value -= estimate.interval.low;
    EXPECT_NEAR(crossed_difference(rows_of(moved), rows_of(b)).p_value, 0.05, 1e-9);
    // A narrower interval at a lower confidence.
    const CrossedEstimate half = crossed_difference(rows_of(a), rows_of(b), 0.5);
    EXPECT_LT(half.interval.high - half.interval.low, estimate.interval.high - estimate.interval.low);
    EXPECT_EQ(half.p_value, estimate.p_value);
}

// Shares of intervals that hold the truth, over drawn studies of other shapes than those of docs/choice.md.
TEST(CrossedDifference, CoversTheTruthForUnevenSeedsAndNoise) {
    struct Shape {
        int first_seeds = 3;
        int second_seeds = 3;
        double first_noise = 0.0;
        double second_noise = 0.0;
    };
    for (const Shape& shape : {Shape{3, 6, 0.05, 0.05}, Shape{5, 3, 0.15, 0.0}, Shape{4, 4, 0.0, 0.0}}) {
        int covered = 0;
        constexpr int studies = 800;
        for (std::uint64_t study = 0; study < studies; ++study) {
            RandomStream random({study, Purpose::bootstrap, 7, 0});
            const std::vector<double> common = item_effects(random, 60, 0.4);
            std::vector<double> first = common;
            std::vector<double> second = common;
            for (double& effect : first) effect += 0.2 * random.normal();
            for (double& effect : second) effect += 0.2 * random.normal();
            const CrossedEstimate estimate = crossed_difference(
                rows_of(drawn(random, first, shape.first_seeds, shape.first_noise, 0.3, 0.1)),
                rows_of(drawn(random, second, shape.second_seeds, shape.second_noise, 0.3)));
            covered += estimate.interval.low <= 0.1 && 0.1 <= estimate.interval.high;
        }
        EXPECT_GE(covered, studies * 0.925) << shape.first_seeds << " against " << shape.second_seeds;
        EXPECT_LE(covered, studies * 0.99) << shape.first_seeds << " against " << shape.second_seeds;
    }
}

TEST(ResampledMean, IsThePlainTTestWithoutOverlapAndWiderWithIt) {
    const std::vector<double> differences = {0.01, 0.04, -0.02, 0.05, 0.03};
    const MeanInterval plain = mean_interval(differences);
    const ResampledMean none = resampled_mean(differences, 0.0);
    EXPECT_NEAR(none.mean, plain.mean, 1e-15);
    EXPECT_NEAR(none.interval.low, plain.interval->low, 1e-12);
    EXPECT_NEAR(none.interval.high, plain.interval->high, 1e-12);
    // Five folds: validation is a quarter of training, so the variance is (1/5 + 1/4) / (1/5) = 2.25 times as
    // large.
    const ResampledMean folds = resampled_mean(differences, 0.25);
    EXPECT_NEAR((folds.interval.high - folds.mean) / (none.interval.high - none.mean), 1.5, 1e-12);
    EXPECT_GT(folds.p_value, none.p_value);
    // Variance 0.01 (1/3 + 1/4), t = 2.6186 with 2 degrees of freedom, where p = 1 - t / sqrt(2 + t^2).
    const ResampledMean three = resampled_mean(std::vector<double>{0.1, 0.2, 0.3}, 0.25);
    EXPECT_NEAR(three.p_value, 0.12011732, 1e-7);
    EXPECT_NEAR(three.interval.high - three.mean, 4.30265273 * 0.07637626, 1e-7);
    EXPECT_EQ(resampled_mean(std::vector<double>{0.1, 0.1}, 0.25).p_value, 0.0);
    EXPECT_EQ(resampled_mean(std::vector<double>{0.0, 0.0}, 0.25).p_value, 1.0);
}

TEST(Holm, NeverChangesTheOrderAndNeverHelps) {
    RandomStream random({6, Purpose::sample, 0, 0});
    std::vector<double> p_values;
    for (int k = 0; k < 50; ++k) p_values.push_back(std::pow(random.uniform(), 3.0));
    const std::vector<double> adjusted = holm_adjusted(p_values);
    for (std::size_t a = 0; a < p_values.size(); ++a) {
        EXPECT_GE(adjusted[a], p_values[a]);
        EXPECT_LE(adjusted[a], 1.0);
        for (std::size_t b = 0; b < p_values.size(); ++b)
            if (p_values[a] < p_values[b]) {
                EXPECT_LE(adjusted[a], adjusted[b]);
            }
    }
    // The smallest is Bonferroni's.
    const auto smallest = std::min_element(p_values.begin(), p_values.end());
    EXPECT_NEAR(adjusted[static_cast<std::size_t>(smallest - p_values.begin())],
                std::min(1.0, 50 * *smallest), 1e-12);
}

TEST(McNemar, IsTheBinomialTailForEveryCount) {
    // Against the tail added up term by term.
    for (std::int64_t n = 1; n <= 25; ++n)
        for (std::int64_t k = 0; k <= n; ++k) {
            double tail = 0.0;
            double term = std::pow(0.5, static_cast<double>(n));
            for (std::int64_t i = 0; i <= std::min(k, n - k); ++i) {
                tail += term;
                term *= static_cast<double>(n - i) / static_cast<double>(i + 1);
            }
            EXPECT_NEAR(mcnemar_p_value(k, n - k), std::min(1.0, 2 * tail), 1e-12) << k << " of " << n;
        }
}

}  // namespace
}  // namespace jevrin
