// Random changes: what each does, that its draws are its own, and what mixing makes of labels.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/images/composition.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/images/pixel_changes.hpp"

#include <cmath>
#include <numeric>

namespace jevrin {
namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;

constexpr std::int64_t side = 24;

std::vector<std::uint8_t> pattern(int channels = 3) {
    std::vector<std::uint8_t> pixels(static_cast<std::size_t>(side * side * channels));
    for (std::int64_t y = 0; y < side; ++y)
        for (std::int64_t x = 0; x < side; ++x)
            for (int c = 0; c < channels; ++c)
                pixels[static_cast<std::size_t>((y * side + x) * channels + c)] =
                    static_cast<std::uint8_t>(30 + 5 * x + 3 * y + 20 * c);
    return pixels;
}

PixelGrid grid_of(std::vector<std::uint8_t>& pixels, int channels = 3) {
    return {pixels.data(), side, side, channels};
}

int at(const std::vector<std::uint8_t>& pixels, std::int64_t x, std::int64_t y, int c = 0) {
    return pixels[static_cast<std::size_t>((y * side + x) * 3 + c)];
}

double mean(const std::vector<std::uint8_t>& pixels) {
    return std::accumulate(pixels.begin(), pixels.end(), 0.0) / static_cast<double>(pixels.size());
}

double mean_difference(const std::vector<std::uint8_t>& a, const std::vector<std::uint8_t>& b) {
    double sum = 0;
    for (std::size_t i = 0; i < a.size(); ++i) sum += std::abs(int{a[i]} - int{b[i]});
    return sum / static_cast<double>(a.size());
}

TEST(Movement, TurnsFlipsAndShiftsWherePixelsAreKnown) {
    const auto original = pattern();
    const auto moved = [&](const Movement& movement) {
        auto pixels = original;
        move(grid_of(pixels), movement);
        return pixels;
    };
    EXPECT_EQ(at(moved({.mirrored = true}), 3, 5), at(original, side - 4, 5));
    EXPECT_EQ(at(moved({.upside_down = true}), 3, 5), at(original, 3, side - 6));
    EXPECT_EQ(at(moved({.dx = 2, .dy = -3}), 10, 10), at(original, 8, 13));
    // A quarter turn takes each pixel exactly onto another.
    const auto turned = moved({.degrees = 90.0});
    const bool clockwise = at(turned, 3, 5) == at(original, side - 6, 3);
    for (std::int64_t y = 0; y < side; ++y)
        for (std::int64_t x = 0; x < side; ++x)
            ASSERT_NEAR(at(turned, x, y, 1),
                        clockwise ? at(original, side - 1 - y, x, 1) : at(original, y, side - 1 - x, 1), 1);
    // Twice as large: the middle stays, the edges are those of the middle half.
    const auto zoomed = moved({.zoom = 2.0});
    EXPECT_NEAR(at(zoomed, 0, 12), at(original, 6, 12), 4);
    EXPECT_NEAR(at(zoomed, 23, 12), at(original, 17, 12), 5);
    // A crop of the upper left quarter resized to the whole.
    const auto cropped = moved({.crop_width = 0.5, .crop_height = 0.5});
    EXPECT_NEAR(at(cropped, 23, 23), at(original, 11, 11), 6);
    EXPECT_NEAR(at(cropped, 0, 0), at(original, 0, 0), 1);
    // A turn there and back comes near the original inside.
    auto there = original;
    move(grid_of(there), {.degrees = 30.0});
    move(grid_of(there), {.degrees = -30.0});
    EXPECT_NEAR(at(there, 12, 12), at(original, 12, 12), 2);
}

TEST(Recolouring, FollowsItsFormulas) {
    auto brighter = pattern();
    recolour(grid_of(brighter), {.brightness = 0.1});
    EXPECT_EQ(at(brighter, 4, 4, 2), at(pattern(), 4, 4, 2) + 26);  // 25.5 rounded
    auto flat = pattern();
    recolour(grid_of(flat), {.contrast = -1.0});
    EXPECT_NEAR(*std::max_element(flat.begin(), flat.end()), *std::min_element(flat.begin(), flat.end()), 1);
    auto grey = pattern();
    recolour(grid_of(grey), {.saturation = -1.0});
    EXPECT_NEAR(at(grey, 7, 9, 0), at(grey, 7, 9, 2), 1);
    EXPECT_NEAR(
        at(grey, 7, 9),
        0.299 * at(pattern(), 7, 9, 0) + 0.587 * at(pattern(), 7, 9, 1) + 0.114 * at(pattern(), 7, 9, 2), 1);
    // A third of the circle takes red to green, green to blue, blue to red.
    std::vector<std::uint8_t> red = {200, 40, 40};
    recolour({red.data(), 1, 1, 3}, {.hue_degrees = 120.0});
    EXPECT_THAT(std::vector<int>(red.begin(), red.end()), testing::ElementsAre(40, 200, 40));
}

TEST(Changes, BlurNoiseAndErasingDoWhatTheySay) {
    std::vector<std::uint8_t> dot(side * side, 0);
    dot[12 * side + 12] = 255;
    blur({dot.data(), side, side, 1}, 1.0);
    // A Gaussian of deviation 1 on whole pixels: 0.398942^2 and its neighbours.
    EXPECT_NEAR(dot[12 * side + 12], 255 * 0.398942 * 0.398942, 1.5);
    EXPECT_NEAR(dot[12 * side + 13], 255 * 0.398942 * 0.241971, 1.5);
    EXPECT_EQ(dot[12 * side + 13], dot[11 * side + 12]);

    std::vector<std::uint8_t> plain(side * side * 3, 128);
    RandomStream stream({1, Purpose::noise, 0, 0});
    add_noise({plain.data(), side, side, 3}, 0.05, stream);
    EXPECT_NEAR(mean(plain), 128.0, 1.0);
    double squares = 0;
    for (const std::uint8_t v : plain) squares += (v - 128.0) * (v - 128.0);
    EXPECT_NEAR(std::sqrt(squares / static_cast<double>(plain.size())), 0.05 * 255, 0.6);

    auto erased = pattern();
    erase(grid_of(erased), 0.25, 1.0, 0.0, 0.0);
    EXPECT_NEAR(at(erased, 0, 0), mean(pattern()) - 20, 1.0);  // of the red channel
    EXPECT_EQ(at(erased, 11, 11), at(erased, 0, 0));
    EXPECT_EQ(at(erased, 12, 12), at(pattern(), 12, 12));
}

std::shared_ptr<const Cutout> half_transparent_square() {
    auto cutout = std::make_shared<Cutout>();
    cutout->colours = Image(4, 4);
    std::fill(cutout->colours.pixels.begin(), cutout->colours.pixels.end(), std::uint8_t{200});
    cutout->alpha.assign(16, 255);
    for (std::size_t i = 8; i < 16; ++i) cutout->alpha[i] = 0;  // the lower half is invisible
    return cutout;
}

TEST(Overlays, LieWhereTheyAreToldWithTheirAlpha) {
    auto pixels = pattern();
    lay_over(grid_of(pixels), *half_transparent_square(), {0.5, 0.5}, 8.0 / side, 0.5);
    EXPECT_NEAR(at(pixels, 9, 9), 0.5 * at(pattern(), 9, 9) + 100, 1);
    EXPECT_EQ(at(pixels, 9, 15), at(pattern(), 9, 15));
    EXPECT_EQ(at(pixels, 7, 9), at(pattern(), 7, 9));
    // Partly outside: no pixel beyond the image is touched, and nothing is read there.
    auto corner = pattern();
    lay_over(grid_of(corner), *half_transparent_square(), {0.0, 0.0}, 0.5, 1.0);
    EXPECT_EQ(at(corner, 12, 12), at(pattern(), 12, 12));
}

TEST(Augmentation, OneChangeLeavesTheDrawsOfOthersAlone) {
    const AugmentationKey key{.seed = 4, .epoch = 2};
    for (std::int64_t item = 0; item < 20; ++item) {
        // Where the flip of an image is drawn, whatever else is turned on.
        auto flipped = pattern();
        augment(grid_of(flipped), {.flip = true}, key, item);
        auto both = pattern();
        augment(grid_of(both), {.flip = true, .brightness = 1e-9, .noise = 1e-9, .erase = 1e-12}, key, item);
        EXPECT_EQ(flipped, both) << item;
    }
}

TEST(Augmentation, OnlyWhatIsAskedForIsDone) {
    // Of 200 images about half are flipped, the others are left as they are; deviation 7.
    const auto images_that_are = [](const Augmentation& augmentation, const Movement& movement) {
        auto moved = pattern();
        move(grid_of(moved), movement);
        int count = 0;
        for (std::int64_t item = 0; item < 200; ++item) {
            auto pixels = pattern();
            augment(grid_of(pixels), augmentation, {.seed = 3, .epoch = 1}, item);
            EXPECT_TRUE(pixels == moved || pixels == pattern()) << item;
            count += pixels == moved ? 1 : 0;
        }
        return count;
    };
    EXPECT_NEAR(images_that_are({.flip = true}, {.mirrored = true}), 100, 28);
    EXPECT_NEAR(images_that_are({.flip_vertical = true}, {.upside_down = true}), 100, 28);
    EXPECT_EQ(images_that_are({}, {}), 200);
    // Shifts by at most a twelfth: two pixels, each as often as the others.
    int furthest = 0;
    for (std::int64_t item = 0; item < 200; ++item) {
        auto pixels = pattern();
        augment(grid_of(pixels), {.shift = 1.0 / 12}, {.seed = 3, .epoch = 1}, item);
        bool is_shifted = false;
        for (std::int64_t dx = -2; dx <= 2; ++dx)
            for (std::int64_t dy = -2; dy <= 2; ++dy) {
                auto shifted = pattern();
                move(grid_of(shifted), {.dx = dx, .dy = dy});
                if (pixels != shifted) continue;
                is_shifted = true;
                furthest += std::abs(dx) == 2 && std::abs(dy) == 2 ? 1 : 0;
            }
        EXPECT_TRUE(is_shifted) << item;
    }
    EXPECT_NEAR(furthest, 200 * 4 / 25, 20);
}

TEST(Augmentation, DependsOnSeedEpochAndItem) {
    const Augmentation strong = augmentation_of_strength("strong");
    const auto made = [&](std::uint64_t seed, std::uint32_t epoch, std::int64_t item) {
        auto pixels = pattern();
        augment(grid_of(pixels), strong, {seed, epoch}, item);
        return pixels;
    };
    EXPECT_EQ(made(1, 2, 3), made(1, 2, 3));
    EXPECT_NE(made(1, 2, 3), made(2, 2, 3));
    EXPECT_NE(made(1, 2, 3), made(1, 3, 3));
    EXPECT_NE(made(1, 2, 3), made(1, 2, 4));
    auto grey = pattern(1);
    augment(grid_of(grey, 1), strong, {1, 2}, 3);
    EXPECT_NE(grey, pattern(1));
}

TEST(Augmentation, StrengthsGrow) {
    double before = -1.0;
    for (const char* strength : {"none", "light", "medium", "strong"}) {
        double difference = 0;
        for (std::int64_t item = 0; item < 40; ++item) {
            auto pixels = pattern();
            augment(grid_of(pixels), augmentation_of_strength(strength), {1, 1}, item);
            difference += mean_difference(pixels, pattern());
        }
        EXPECT_GT(difference, before) << strength;
        before = difference;
    }
    EXPECT_FALSE(augmentation_of_strength("none").changes_anything());
    EXPECT_THAT(message_of<InputError>([] { augmentation_of_strength("mediun"); }),
                HasSubstr("did you mean 'medium'?"));
}

TEST(Mixing, SharesFollowTheBetaDistributionAndTheRectangle) {
    double sum = 0;
    double squares = 0;
    constexpr int draws = 4000;
    for (int item = 0; item < draws; ++item) {
        const MixingDraw draw = draw_mixing({.form = MixingForm::mixup, .alpha = 0.4}, {1, 1}, item, 100, 64);
        ASSERT_LT(draw.partner, 100U);
        sum += draw.share;
        squares += draw.share * draw.share;
        const MixingDraw paste =
            draw_mixing({.form = MixingForm::cutmix, .alpha = 1.0}, {1, 1}, item, 100, 64);
        ASSERT_GE(paste.left, 0);
        ASSERT_LE(paste.left + paste.width, 64);
        ASSERT_NEAR(paste.share, 1.0 - static_cast<double>(paste.width * paste.height) / 4096.0, 1e-12);
    }
    // Beta(a, a): mean 1/2, variance 1 / (4 (2 a + 1)).
    const double average = sum / draws;
    EXPECT_NEAR(average, 0.5, 0.02);
    EXPECT_NEAR(squares / draws - average * average, 1.0 / (4.0 * 1.8), 0.01);
}

// --- composed sets ---

struct CompositionTest : testing::Test {
    TemporaryDirectory directory;
    ImageSet set;
    void SetUp() override {
        test::write_small_set(directory / "set", {"fault", "sound"}, 3);
        set = read_image_set({.from = directory / "set"});
    }
};

TEST_F(CompositionTest, WritesALabelledSetWhoseCopiesStayTogether) {
    Composition composition{
        .copies = 2, .originals = true, .augmentation = {.flip = true, .brightness = 0.2}};
    composition.augmentation.overlays = {{.file = "bubble.png",
                                          .cutout = half_transparent_square(),
                                          .probability = 1.0,
                                          .at = {{0.5, 0.5}},
                                          .size = {0.5, 0.5},
                                          .label = "fault"}};
    composition.onto = {{"sound"}};
    const CompositionSummary summary = compose(set, composition, directory / "new");
    EXPECT_EQ(summary.written, 18);
    EXPECT_EQ(summary.relabelled, 6);
    const ImageSet made = read_image_set({.from = directory.path() / "new" / "index.csv"});
    EXPECT_EQ(made.items.size(), 18U);
    EXPECT_EQ(class_counts(made), (std::vector<std::int64_t>{15, 3}));
    std::map<std::string, int> groups;
    for (const Item& item : made.items) ++groups[item.group];
    EXPECT_EQ(groups.size(), 6U);
    EXPECT_EQ(groups["sound/00.png"], 3);
    // The same recipe makes the same bytes.
    compose(set, composition, directory / "again");
    EXPECT_EQ(read_image_set({.from = directory.path() / "again" / "index.csv"}).fingerprint,
              made.fingerprint);
    // Its folders are a set as well.
    EXPECT_EQ(read_image_set({.from = directory / "new"}).items.size(), 18U);
}

TEST_F(CompositionTest, RefusesWhatCannotBeWritten) {
    EXPECT_THAT(message_of<InputError>([&] { compose(set, {}, directory / "set"); }),
                HasSubstr("is not empty"));
    Composition composition;
    composition.augmentation.overlays = {{.file = "x", .cutout = half_transparent_square()}};
    composition.onto = {{"sund"}};
    EXPECT_THAT(message_of<InputError>([&] { compose(set, composition, directory / "n"); }),
                HasSubstr("'onto' is 'sund' (did you mean 'sound'?)"));
    EXPECT_FALSE(std::filesystem::exists(directory / "n"));
}

}  // namespace
}  // namespace jevrin
