#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/images/batches.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/near_duplicates.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/images/preparation.hpp"

#include <fmt/format.h>

#include <cstring>
#include <set>

namespace jevrin {
namespace {

using test::bytes_of;
using test::message_of;
using test::small_picture;
using test::TemporaryDirectory;
using test::write_small_set;
using testing::HasSubstr;

Image plain(std::int64_t width, std::int64_t height, std::uint8_t value) {
    Image image(width, height);
    std::fill(image.pixels.begin(), image.pixels.end(), value);
    return image;
}

TEST(Image, PngIsExactAndJpegIsNear) {
    const Image image = small_picture(1, 3, 20);
    EXPECT_EQ(decode_image(encode_png(image)).pixels, image.pixels);
    const Image grey = plain(17, 9, 100);
    const Image jpeg = decode_image(encode_jpeg(grey, 95));
    EXPECT_EQ(jpeg.width, 17);
    EXPECT_EQ(jpeg.height, 9);
    for (const std::uint8_t v : jpeg.pixels) EXPECT_NEAR(v, 100, 2);
}

TEST(Image, BadBytesAreRefusedInWords) {
    EXPECT_THAT(message_of<InputError>([] { decode_image({}); }), HasSubstr("empty"));
    EXPECT_THAT(message_of<InputError>([] { decode_image(bytes_of("GIF89a.....")); }),
                HasSubstr("it is a damaged GIF"));
    for (const auto& whole : {encode_png(small_picture(0, 1, 24)), encode_jpeg(small_picture(0, 1, 24), 90)})
        for (std::size_t length = 8; length + 16 < whole.size(); length += 7)
            EXPECT_THAT(message_of<InputError>([&] { decode_image(std::span(whole).first(length)); }),
                        HasSubstr("damaged"))
                << length;
}

TEST(Image, AHugeHeaderIsRefusedBeforeMemoryIsTaken) {
    // A PNG header that claims 60000 x 60000 pixels, with its right checksum.
    std::string png("\x89PNG\r\n\x1a\n\0\0\0\rIHDR\0\0\xea\x60\0\0\xea\x60\x08\x02\0\0\0", 29);
    std::uint32_t crc = 0xFFFFFFFFU;
    for (std::size_t i = 12; i < png.size(); ++i) {
        crc ^= static_cast<unsigned char>(png[i]);
        for (int k = 0; k < 8; ++k) crc = (crc >> 1) ^ (crc & 1U ? 0xEDB88320U : 0U);
    }
    crc = ~crc;
    for (int shift = 24; shift >= 0; shift -= 8) png += static_cast<char>(crc >> shift);
    // A data chunk, so that the header counts as read.
    png += std::string("\0\0\0\0IDAT\x35\xaf\x06\x1e", 12);
    EXPECT_THAT(message_of<InputError>([&] { decode_image(bytes_of(png)); }),
                HasSubstr("60000x60000 pixels; the limit is 100 million"));
}

TEST(Resize, HalvingAveragesAndConstantsStay) {
    for (const auto& [w, h] : {std::pair{3, 5}, {11, 4}, {64, 64}, {1, 1}}) {
        const Image same = resize(plain(10, 7, 123), w, h);
        for (const std::uint8_t v : same.pixels) ASSERT_EQ(v, 123);
    }
    Image columns(4, 1);
    for (std::int64_t x = 0; x < 4; ++x)
        std::fill_n(columns.at(x, 0), 3, static_cast<std::uint8_t>(x < 2 ? 0 : 200));
    const Image half = resize(columns, 2, 1);
    // A triangle two pixels to each side: weights 1 3 3 1 over 8, the outermost outside the image, so 3 of 7
    // to 1.
    EXPECT_NEAR(half.at(0, 0)[0], 200.0 * 1 / 7, 1.0);
    EXPECT_NEAR(half.at(1, 0)[0], 200.0 * 6 / 7, 1.0);
}

TEST(Resize, ShrinkingFineStripesGivesGreyNotStripes) {
    Image stripes(64, 64);
    for (std::int64_t y = 0; y < 64; ++y)
        for (std::int64_t x = 0; x < 64; ++x)
            std::fill_n(stripes.at(x, y), 3, static_cast<std::uint8_t>(x % 2 == 0 ? 0 : 254));
    const Image small = resize(stripes, 9, 9);
    for (std::int64_t x = 1; x < 8; ++x) EXPECT_NEAR(small.at(x, 4)[0], 127, 12);
}

TEST(Preparation, EachFitDoesWhatItSays) {
    Image wide(8, 4);  // left half black, right half white
    for (std::int64_t y = 0; y < 4; ++y)
        for (std::int64_t x = 4; x < 8; ++x) std::fill_n(wide.at(x, y), 3, std::uint8_t{255});
    const auto stretched = fit_image(wide, {.size = 4, .fit = Fit::stretch});
    EXPECT_EQ(stretched.front(), 0);
    EXPECT_EQ(stretched.back(), 255);
    const auto cropped = fit_image(wide, {.size = 4, .fit = Fit::crop});
    EXPECT_EQ(cropped[1 * 3], 0);
    EXPECT_EQ(cropped[2 * 3], 255);
    const auto padded = fit_image(wide, {.size = 8, .fit = Fit::pad});
    ASSERT_EQ(padded.size(), 8U * 8U * 3U);
    EXPECT_EQ(padded.front(), 0);
    EXPECT_EQ(padded.back(), 255);
    const auto filled =
        fit_image(wide, {.size = 8, .padding = FitPadding::constant, .padding_colour = {9, 8, 7}});
    EXPECT_THAT(std::vector<int>(filled.begin(), filled.begin() + 3), testing::ElementsAre(9, 8, 7));
    EXPECT_EQ(filled[(2 * 8 + 0) * 3], 0);  // the image itself begins in the third row
    const auto mean = fit_image(wide, {.size = 8, .padding = FitPadding::mean});
    EXPECT_EQ(mean.front(), 128);
    EXPECT_EQ(fit_image(wide, {.size = 8, .channels = 1}).size(), 8U * 8U);
    EXPECT_THAT(message_of<InputError>([] { value_named<Fit>("padd"); }), HasSubstr("did you mean 'pad'"));
}

TEST(Preparation, JsonGoesRoundAndRefusesNonsense) {
    const Preparation before{.fitting = {.size = 48,
                                         .fit = Fit::crop,
                                         .padding = FitPadding::mean,
                                         .padding_colour = {1, 2, 3},
                                         .background = {4, 5, 6},
                                         .channels = 1},
                             .scaling = {{0.1, 0.2, 1.0 / 3}, {0.4, 0.5, 0.6}}};
    const Preparation after = Preparation::from_json(before.to_json());
    EXPECT_EQ(after.fitting.key(), before.fitting.key());
    EXPECT_EQ(after.fitting.channels, 1);
    EXPECT_EQ(after.scaling.mean, before.scaling.mean);
    for (const char* text :
         {"", "[]", "{\"size\":3}", "{\"size\":-1,\"fit\":\"pad\",\"mean\":[0,0,0],\"deviation\":[1,1,1]}",
          "{\"size\":8,\"fit\":\"pad\",\"mean\":[0,0,0],\"deviation\":[1,0,1]}"})
        EXPECT_THROW(Preparation::from_json(text), InputError) << text;
}

TEST(Preparation, ScalingIsTheMeanAndDeviationOfThePixels) {
    Image image(2, 1);
    image.pixels = {0, 10, 100, 255, 30, 100};
    ScalingSums sums(3);
    sums.add(image.pixels);
    const Scaling scaling = sums.scaling();
    EXPECT_DOUBLE_EQ(scaling.mean[0], 0.5);
    EXPECT_DOUBLE_EQ(scaling.deviation[0], 0.5);
    EXPECT_NEAR(scaling.mean[1], 20 / 255.0, 1e-12);
    EXPECT_NEAR(scaling.deviation[1], 10 / 255.0, 1e-12);
    EXPECT_NEAR(scaling.deviation[2], 1 / 255.0, 1e-12);  // constant: never a split by zero
    std::vector<float> out(6);
    ScalingTable(scaling, 3).apply(image.pixels, out);
    EXPECT_FLOAT_EQ(out[0], -1.0F);
    EXPECT_FLOAT_EQ(out[4], 1.0F);
    // Sums of parts, added up, are those of the whole.
    ScalingSums left(3);
    left.add(std::span(image.pixels).first(3));
    ScalingSums right(3);
    right.add(std::span(image.pixels).last(3));
    left.add(right);
    EXPECT_EQ(left.scaling().mean, scaling.mean);
    EXPECT_EQ(left.scaling().deviation, scaling.deviation);
}

TEST(ImageSet, ReadsClassesInOrderAndSkipsWhatIsForeign) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"zebra", "ant", "mole"}, 4);
    write_file(directory / "notes.txt", std::string("x"));
    write_file(directory.path() / "ant" / ".hidden.png", std::string("x"));
    write_file(directory.path() / "ant" / "list.csv", std::string("x"));
    make_directory(directory.path() / "ant" / "deeper");
    write_file(directory.path() / "ant" / "deeper" / "x.png", encode_png(small_picture(1, 99)));
    const ImageSet set = read_image_set({.from = directory.path()});
    EXPECT_THAT(set.classes, testing::ElementsAre("ant", "mole", "zebra"));
    EXPECT_EQ(class_counts(set), (std::vector<std::int64_t>{5, 4, 4}));
    EXPECT_EQ(set.skipped, 3);
    EXPECT_TRUE(set.problems.empty());
    EXPECT_EQ(set.items[0].path, "ant/00.png");
    EXPECT_EQ(set.items[0].facts.width, 16);
}

TEST(ImageSet, BadFilesAreNamedAndCostNothingElse) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"a", "b"}, 4);
    write_file(directory.path() / "a" / "empty.png", std::string());
    write_file(directory.path() / "a" / "text.jpg", std::string("this is text"));
    const std::string whole = read_text(directory.path() / "b" / "00.png");
    write_file(directory.path() / "b" / "cut.png", std::string_view(whole).substr(0, whole.size() / 2));
    const ImageSet set = read_image_set({.from = directory.path()});
    EXPECT_EQ(set.items.size(), 8U);
    ASSERT_EQ(set.problems.size(), 3U);
    EXPECT_EQ(set.problems[0].file, "a/empty.png");
    EXPECT_THAT(set.problems[0].problem, HasSubstr("empty"));
    EXPECT_THAT(set.problems[1].problem, HasSubstr("it is not an image"));
    EXPECT_THAT(set.problems[2].problem, HasSubstr("damaged PNG"));
}

TEST(ImageSet, WrongRootsAreRecognised) {
    const TemporaryDirectory directory;
    EXPECT_THAT(message_of<InputError>([&] { read_image_set({.from = directory / "none"}); }),
                HasSubstr("no such folder"));
    write_small_set(directory / "set", {"a", "b"}, 2);
    EXPECT_THAT(message_of<InputError>([&] { read_image_set({.from = directory.path() / "set" / "a"}); }),
                HasSubstr("one level too low"));
    EXPECT_THAT(
        message_of<InputError>([&] { read_image_set({.from = directory.path() / "set" / "a" / "00.png"}); }),
        HasSubstr("this is one image"));
    EXPECT_THAT(message_of<InputError>([&] { read_image_set({.from = directory.path()}); }),
                HasSubstr("one level too high"));
    // Folders of images below each class may be classes; one alone is none.
    write_small_set(directory / "deep/x", {"a", "b"}, 2);
    write_small_set(directory / "deep/y", {"a", "b"}, 2);
    write_small_set(directory / "single/x", {"a"}, 2);
    write_small_set(directory / "single/y", {"a"}, 2);
    EXPECT_THAT(read_image_set({.from = directory / "deep"}).notes,
                testing::ElementsAre(HasSubstr("holds the same folders 'a', 'b'")));
    EXPECT_TRUE(read_image_set({.from = directory / "single"}).notes.empty());
    make_directory(directory.path() / "set" / "A");
    EXPECT_THAT(message_of<InputError>([&] { read_image_set({.from = directory / "set"}); }),
                HasSubstr("'A' and 'a' differ only by case"));
    std::filesystem::remove(directory.path() / "set" / "A");
    make_directory(directory.path() / "set" / "c");
    EXPECT_THAT(message_of<InputError>([&] { read_image_set({.from = directory / "set"}); }),
                HasSubstr("class 'c' has no readable"));
}

TEST(ImageSet, TheFingerprintFollowsContentAndLabels) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"a", "b"}, 3);
    const std::string before = read_image_set({.from = directory.path()}).fingerprint;
    EXPECT_EQ(read_image_set({.from = directory.path()}).fingerprint, before);
    std::filesystem::rename(directory.path() / "a" / "00.png", directory.path() / "b" / "90.png");
    EXPECT_NE(read_image_set({.from = directory.path()}).fingerprint, before);
}

TEST(Parts, AreDisjointStratifiedAndFollowTheSeed) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"a", "b", "c"}, 20);
    const ImageSet set = read_image_set({.from = directory.path()});
    const Parts parts = split_into_parts(set, {.seed = 1});
    std::set<std::size_t> seen;
    for (const Part part : all_parts) {
        std::vector<int> by_class(3, 0);
        for (const std::size_t item : parts.of(part)) {
            EXPECT_TRUE(seen.insert(item).second);
            ++by_class[set.items[item].label];
        }
        EXPECT_THAT(by_class, testing::Each(part == Part::training ? 12 : 4));
    }
    EXPECT_EQ(seen.size(), 60U);
    EXPECT_EQ(split_into_parts(set, {.seed = 1}).test, parts.test);
    EXPECT_NE(split_into_parts(set, {.seed = 2}).test, parts.test);
    EXPECT_TRUE(split_into_parts(set, {.training = 0.8, .test = 0.0}).test.empty());
}

TEST(Parts, EqualPicturesNeverLieInTwoParts) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"a", "b"}, 10);
    for (int i = 0; i < 10; ++i)
        std::filesystem::copy_file(
            directory.path() / "a" / fmt::format("{:02}.{}", i, i % 2 ? "jpg" : "png"),
            directory.path() / "a" / fmt::format("copy{}.{}", i, i % 2 ? "jpg" : "png"));
    const ImageSet set = read_image_set({.from = directory.path()});
    EXPECT_EQ(exact_duplicates(set).size(), 10U);
    const Parts parts = split_into_parts(set, {.training = 0.5, .validation = 0.25, .test = 0.25, .seed = 3});
    for (const auto& group : exact_duplicates(set))
        for (const Part part : all_parts) {
            const auto& items = parts.of(part);
            EXPECT_EQ(std::count(items.begin(), items.end(), group[0]),
                      std::count(items.begin(), items.end(), group[1]));
        }
}

TEST(Parts, AClassTooSmallForItsPartsIsNamed) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"many", "rare"}, 9);
    for (int i = 1; i < 9; ++i)
        std::filesystem::remove(directory.path() / "rare" /
                                fmt::format("{:02}.{}", i, i % 2 ? "jpg" : "png"));
    const ImageSet set = read_image_set({.from = directory.path()});
    EXPECT_THAT(message_of<InputError>([&] { split_into_parts(set); }),
                testing::AllOf(HasSubstr("class 'rare' has 1 image "), HasSubstr("3 parts")));
}

TEST(Batches, AugmentationDependsOnSeedEpochAndItemAlone) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"a", "b"}, 6);
    const ImageSet set = read_image_set({.from = directory.path()});
    const PreparedImages images(set, {.size = 16});
    const ScalingTable scaling(Scaling{}, 3);
    const Augmentation augmentation{.flip = true, .shift = 0.2};
    const auto size = static_cast<std::size_t>(images.values_per_image());
    const auto batch = [&](std::vector<std::int64_t> items, AugmentationKey key) {
        std::vector<float> out(items.size() * size);
        images.fill(items, scaling, augmentation, key, out);
        return out;
    };
    const auto first = batch({3, 5, 7}, {1, 2});
    set_threads(3);
    const auto alone = batch({5}, {1, 2});
    set_threads(2);
    EXPECT_TRUE(std::equal(alone.begin(), alone.end(), first.begin() + static_cast<std::ptrdiff_t>(size)));
    int changed = 0;
    for (std::uint32_t epoch = 3; epoch < 8; ++epoch) changed += batch({5}, {1, epoch}) != alone;
    EXPECT_GE(changed, 3);
}

TEST(Batches, AFlipMirrorsAndAShiftMoves) {
    const TemporaryDirectory directory;
    Image image(16, 16);
    for (std::int64_t y = 0; y < 16; ++y)
        for (std::int64_t x = 0; x < 16; ++x)
            std::fill_n(image.at(x, y), 3, static_cast<std::uint8_t>(10 * x));
    for (const char* name : {"a", "b"}) {
        make_directory(directory / name);
        write_file(directory.path() / name / "x.png", encode_png(image));
    }
    const ImageSet set = read_image_set({.from = directory.path()});
    const PreparedImages images(set, {.size = 16, .fit = Fit::stretch});
    const std::vector<std::int64_t> items = {0};
    std::vector<float> out(16 * 16 * 3);
    bool mirrored = false;
    bool straight = false;
    for (std::uint32_t epoch = 0; epoch < 20; ++epoch) {
        images.fill(items, ScalingTable(Scaling{}, 3), {.flip = true}, {1, epoch}, out);
        mirrored = mirrored || std::lround(out[0] * 255) == 150;
        straight = straight || std::lround(out[0] * 255) == 0;
    }
    EXPECT_TRUE(mirrored && straight);
    std::set<long> offsets;
    for (std::uint32_t epoch = 0; epoch < 60; ++epoch) {
        images.fill(items, ScalingTable(Scaling{}, 3), {.shift = 0.125}, {1, epoch}, out);
        offsets.insert(std::lround(out[8 * 3] * 255) / 10 - 8);
    }
    EXPECT_THAT(offsets, testing::ElementsAre(-2, -1, 0, 1, 2));
}

}  // namespace
}  // namespace jevrin
