// What is minimised, and which items an epoch sees.
#include "jevrin/training/loss.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/training/sampling.hpp"
#include "jevrin/training/training_state.hpp"

#include <algorithm>
#include <cmath>
#include <set>

namespace jevrin {
namespace {

using test::message_of;
using testing::HasSubstr;

// Logits (0, ln 3): probabilities 1/4 and 3/4.
const std::vector<float> logits = {0.0F, std::log(3.0F)};
const std::vector<Target> first_class = {{.label = 0, .other = 0}};

TEST(Objective, LabelSmoothingByHand) {
    std::vector<float> gradient(2);
    const BatchLoss loss = cross_entropy(2, logits, first_class, gradient, {.label_smoothing = 0.2});
    EXPECT_NEAR(loss.objective_sum, 0.9 * std::log(4.0) + 0.1 * std::log(4.0 / 3.0), 1e-6);
    EXPECT_NEAR(loss.loss_sum, std::log(4.0), 1e-6);  // stays comparable
    EXPECT_NEAR(gradient[0], 0.25 - 0.9, 1e-6);
    EXPECT_NEAR(gradient[1], 0.75 - 0.1, 1e-6);
}

TEST(Objective, TheFocalFormByHand) {
    const BatchLoss loss = cross_entropy(2, logits, first_class, {}, {.focal_gamma = 2.0});
    EXPECT_NEAR(loss.objective_sum, 0.75 * 0.75 * std::log(4.0), 1e-6);
    EXPECT_NEAR(loss.loss_sum, std::log(4.0), 1e-6);
}

TEST(Objective, ClassesCountAsTheyAreWeighted) {
    std::vector<float> gradient(2);
    std::vector<std::size_t> predicted(1);
    const BatchLoss loss =
        cross_entropy(2, logits, first_class, gradient, {.class_weights = {3.0, 1.0}}, predicted);
    EXPECT_NEAR(loss.objective_sum, 3.0 * std::log(4.0), 1e-6);
    EXPECT_NEAR(gradient[0], 3.0 * (0.25 - 1.0), 1e-6);
    EXPECT_EQ(predicted[0], 1U);
    const std::vector<Target> mixed = {{.label = 0, .other = 1, .share = 0.75}};
    EXPECT_NEAR(cross_entropy(2, logits, mixed, {}, {.class_weights = {3.0, 1.0}}).objective_sum,
                2.5 * (0.75 * std::log(4.0) + 0.25 * std::log(4.0 / 3.0)), 1e-6);
}

TEST(Objective, BalancedAndNamedWeights) {
    const std::vector<std::size_t> labels = {0, 0, 0, 2};
    const std::vector<std::string> names = {"a", "b", "c"};
    EXPECT_THAT(balanced_weights(labels, 3), testing::ElementsAre(testing::DoubleNear(4.0 / 9.0, 1e-12), 0.0,
                                                                  testing::DoubleNear(4.0 / 3.0, 1e-12)));
    EXPECT_EQ(settle_class_weights({.balanced_classes = true}, names, labels), balanced_weights(labels, 3));
    EXPECT_THAT(settle_class_weights({.named_weights = {{"b", 2.5}}}, names, labels),
                testing::ElementsAre(1.0, 2.5, 1.0));
    EXPECT_TRUE(settle_class_weights({}, names, labels).empty());
    EXPECT_THAT(message_of<InputError>([&] {
                    settle_class_weights({.named_weights = {{"bb", 1.0}}}, names, labels);
                }),
                HasSubstr("names the class 'bb'"));
}

// Central differences in the logits, for random settings, mixed targets and weights.
TEST(Objective, GradientsAreThoseOfTheObjective) {
    for (std::uint64_t round = 0; round < 60; ++round) {
        RandomStream random({round, Purpose::sample, 0, 1});
        const std::int64_t classes = 2 + random.below(5);
        const auto count = static_cast<std::size_t>(classes);
        LossSettings settings;
        if (random.below(2) == 0) settings.label_smoothing = random.uniform(0.0, 0.5);
        if (random.below(2) == 0) settings.focal_gamma = random.uniform(0.5, 4.0);
        if (random.below(2) == 0)
            for (std::size_t c = 0; c < count; ++c)
                settings.class_weights.push_back(random.uniform(0.1, 3.0));
        std::vector<Target> targets;
        std::vector<float> rows;
        for (int n = 0; n < 3; ++n) {
            targets.push_back({.label = random.below(static_cast<std::uint32_t>(classes)),
                               .other = random.below(static_cast<std::uint32_t>(classes)),
                               .share = random.uniform(),
                               .weight = random.uniform(0.5, 2.0)});
            for (std::size_t c = 0; c < count; ++c) rows.push_back(static_cast<float>(2.0 * random.normal()));
        }
        std::vector<float> gradient(rows.size());
        cross_entropy(classes, rows, targets, gradient, settings);
        for (std::size_t i = 0; i < rows.size(); ++i) {
            constexpr float step = 0.01F;
            std::vector<float> higher = rows;
            std::vector<float> lower = rows;
            higher[i] += step;
            lower[i] -= step;
            const double slope = (cross_entropy(classes, higher, targets, {}, settings).objective_sum -
                                  cross_entropy(classes, lower, targets, {}, settings).objective_sum) /
                                 (static_cast<double>(higher[i]) - lower[i]) / 3.0;
            EXPECT_NEAR(gradient[i], slope, 2e-4) << round << ' ' << i;
        }
    }
}

TEST(Objective, CertaintyIsNoTrouble) {
    const std::vector<float> certain = {200.0F, -200.0F};
    std::vector<float> gradient(2);
    for (const double gamma : {0.0, 0.5, 2.0}) {
        EXPECT_NEAR(cross_entropy(2, certain, first_class, gradient, {.focal_gamma = gamma}).objective_sum,
                    0.0, 1e-9);
        EXPECT_NEAR(gradient[0], 0.0, 1e-6);
        const std::vector<Target> wrong = {{.label = 1, .other = 1}};
        EXPECT_NEAR(cross_entropy(2, certain, wrong, gradient, {.focal_gamma = gamma}).objective_sum, 400.0,
                    1e-3);
        EXPECT_NEAR(gradient[0], 1.0, 1e-6);
    }
}

TEST(Objective, SmoothingHoldsBackWhereTheProbabilityIsOneAfterRounding) {
    for (const float margin : {20.0F, 36.0F, 37.0F, 40.0F, 800.0F}) {
        std::vector<float> gradient(2);
        cross_entropy(2, std::vector<float>{margin, 0.0F}, first_class, gradient, {.label_smoothing = 0.2});
        EXPECT_NEAR(gradient[0], 0.1, 1e-6) << margin;  // p - 0.9
        EXPECT_NEAR(gradient[1], -0.1, 1e-6) << margin;
    }
}

struct SamplingTest : testing::Test {
    SamplingTest() {
        for (std::size_t i = 0; i < 60; ++i) {
            items.push_back(i);
            labels.push_back(i < 40 ? 0 : i < 55 ? 1 : 2);  // 40, 15 and 5
        }
    }
    std::vector<std::int64_t> counts(const std::vector<std::int64_t>& order) const {
        std::vector<std::int64_t> result(3, 0);
        for (const std::int64_t item : order) ++result[labels[static_cast<std::size_t>(item)]];
        return result;
    }
    std::vector<std::size_t> items;
    std::vector<std::size_t> labels;
};

TEST_F(SamplingTest, NaturalOrderHasEachItemOnce) {
    const auto order = order_of_epoch(items, labels, Sampling::natural, 3, 1);
    EXPECT_EQ(std::set<std::int64_t>(order.begin(), order.end()).size(), 60U);
    EXPECT_NE(order, order_of_epoch(items, labels, Sampling::natural, 3, 2));
    EXPECT_EQ(order, order_of_epoch(items, labels, Sampling::natural, 3, 1));
}

TEST_F(SamplingTest, BalancedClassesComeEquallyOften) {
    std::set<std::int64_t> seen;
    for (std::uint32_t epoch = 1; epoch <= 20; ++epoch) {
        const auto order = order_of_epoch(items, labels, Sampling::balanced, 3, epoch);
        EXPECT_THAT(counts(order), testing::ElementsAre(20, 20, 20));
        seen.insert(order.begin(), order.end());
        // The five of the rare class come four times each, no one a fifth time.
        for (std::int64_t item = 55; item < 60; ++item)
            EXPECT_EQ(std::count(order.begin(), order.end(), item), 4);
    }
    EXPECT_EQ(seen.size(), 60U);  // nothing is left out for good
    items.resize(59);
    const auto uneven = counts(order_of_epoch(items, labels, Sampling::balanced, 3, 1));
    EXPECT_EQ(*std::max_element(uneven.begin(), uneven.end()), 20);
    EXPECT_EQ(*std::min_element(uneven.begin(), uneven.end()), 19);
}

TEST_F(SamplingTest, SmallerSharesLieWithinLargerOnes) {
    std::vector<std::size_t> before;
    for (const double share : {0.01, 0.1, 0.2, 0.5, 0.9, 1.0}) {
        const auto taken = stratified_share(items, labels, share, 7);
        EXPECT_TRUE(std::is_sorted(taken.begin(), taken.end()));
        EXPECT_TRUE(std::includes(taken.begin(), taken.end(), before.begin(), before.end())) << share;
        const std::vector<std::int64_t> as_order(taken.begin(), taken.end());
        for (std::size_t c = 0; c < 3; ++c) {
            const double whole = c == 0 ? 40 : c == 1 ? 15 : 5;
            EXPECT_EQ(static_cast<double>(counts(as_order)[c]), std::max(1.0, std::round(share * whole)));
        }
        before = taken;
    }
    EXPECT_NE(stratified_share(items, labels, 0.2, 7), stratified_share(items, labels, 0.2, 8));
}

}  // namespace
}  // namespace jevrin
