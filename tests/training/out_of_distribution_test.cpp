// How far features lie from those of training.
#include "jevrin/training/out_of_distribution.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"

#include <cmath>

namespace jevrin {
namespace {

using test::message_of;
using testing::HasSubstr;

struct Cloud {
    std::vector<float> features;
    std::vector<std::size_t> labels;
};

// Two classes around (+3, 0, 0, ...) and (-3, 0, 0, ...); the second feature is wide, the others narrow.
Cloud cloud(std::size_t items, std::size_t width, std::uint64_t seed) {
    Cloud result;
    RandomStream random({.seed = seed, .purpose = Purpose::sample});
    for (std::size_t i = 0; i < items; ++i) {
        result.labels.push_back(i % 2);
        for (std::size_t f = 0; f < width; ++f)
            result.features.push_back(static_cast<float>((f == 0 ? (i % 2 == 0 ? 3.0 : -3.0) : 0.0) +
                                                         (f == 1 ? 5.0 : 0.5) * random.normal()));
    }
    return result;
}

TEST(OutOfDistribution, TrainingItemsLieAtAboutOneWhateverTheShape) {
    const Cloud training = cloud(400, 8, 1);
    const OutOfDistribution known = fit_out_of_distribution(training.features, training.labels, 2);
    double sum = 0.0;
    for (std::size_t i = 0; i < 400; ++i) {
        const double d = known.distance(std::span(training.features).subspan(i * 8, 8));
        sum += d * d;
    }
    EXPECT_NEAR(sum / 400, 1.0, 0.05);
    // Far along the wide direction is near; as far along a narrow one is not.
    std::vector<float> wide(8, 0.0F);
    wide[0] = 3.0F;
    std::vector<float> narrow = wide;
    wide[1] = 6.0F;
    narrow[5] = 6.0F;
    EXPECT_LT(known.distance(wide), 1.0);
    EXPECT_GT(known.distance(narrow), 3.0);
    // Between the classes is far from both.
    EXPECT_GT(known.distance(std::vector<float>(8, 0.0F)), 1.8);
}

TEST(OutOfDistribution, TheLimitIsPassedByFewOfTheirKind) {
    const Cloud training = cloud(600, 12, 2);
    const Cloud validation = cloud(200, 12, 3);
    OutOfDistribution known = fit_out_of_distribution(training.features, training.labels, 2);
    known.limit = out_of_distribution_limit(known, validation.features);
    const Cloud others = cloud(2000, 12, 4);
    int beyond = 0;
    for (std::size_t i = 0; i < 2000; ++i)
        beyond += known.distance(std::span(others.features).subspan(i * 12, 12)) > known.limit ? 1 : 0;
    EXPECT_LT(beyond, 2000 * 4 / 100);
    EXPECT_GT(beyond, 0);
    // Of few items it is the largest.
    const std::span<const float> few = std::span(validation.features).first(std::size_t{12} * 10);
    double largest = 0.0;
    for (std::size_t i = 0; i < 10; ++i) largest = std::max(largest, known.distance(few.subspan(i * 12, 12)));
    EXPECT_GT(out_of_distribution_limit(known, few), largest);
    EXPECT_LE(out_of_distribution_limit(known, few), 10 * largest);
}

TEST(OutOfDistribution, OddTrainingSetsAreFitted) {
    // One item of each class, constant features, a class without items.
    const std::vector<float> features = {1.0F, 0.0F, 5.0F, 0.0F};
    const OutOfDistribution known = fit_out_of_distribution(features, std::vector<std::size_t>{0, 2}, 3);
    EXPECT_EQ(known.means.size(), 4U);
    EXPECT_EQ(known.distance(std::vector<float>{5.0F, 0.0F}), 0.0);
    EXPECT_GT(known.distance(std::vector<float>{3.0F, 0.0F}), 1.0);
}

TEST(OutOfDistribution, GoesThroughTextBitByBitAndDamageIsSeen) {
    const Cloud training = cloud(50, 6, 5);
    OutOfDistribution known = fit_out_of_distribution(training.features, training.labels, 2);
    known.limit = 1.25;
    const std::string text = known.to_text();
    const OutOfDistribution again = OutOfDistribution::from_text(text);
    EXPECT_EQ(again.means, known.means);
    EXPECT_EQ(again.directions, known.directions);
    EXPECT_EQ(again.variances, known.variances);
    EXPECT_EQ(again.remaining_variance, known.remaining_variance);
    EXPECT_EQ(again.limit, 1.25);
    const auto refusal = [&](const std::string& from, const std::string& to) {
        std::string changed = text;
        changed.replace(changed.find(from), from.size(), to);
        return message_of<InputError>([&] { OutOfDistribution::from_text(changed); });
    };
    EXPECT_THAT(refusal("\"width\":6", "\"width\":7"), HasSubstr("do not fit together"));
    EXPECT_THAT(refusal("\"means\":\"", "\"means\":\"x"), HasSubstr("truncated"));
    EXPECT_THAT(refusal("\"means\":\"", "\"means\":\"7fc00000"), HasSubstr("NaN"));
    EXPECT_THAT(refusal("\"limit\"", "\"limits\""), HasSubstr("are invalid"));
}

}  // namespace
}  // namespace jevrin
