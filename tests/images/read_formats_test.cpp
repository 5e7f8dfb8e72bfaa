// TIFF, BMP, GIF and AVIF; and arrays as they are published: in gzip, in archives, divided into parts.
#include "support/encoded_images.hpp"
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/number_array.hpp"
#include "jevrin/images/preparation.hpp"

#include <fmt/format.h>

#include <numeric>

namespace jevrin {
namespace {

using test::bytes_of;
using test::message_of;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::Each;
using testing::ElementsAre;
using testing::HasSubstr;

std::vector<int> reds(const Image& image) {
    std::vector<int> values;
    for (std::size_t i = 0; i < image.pixels.size(); i += 3) values.push_back(image.pixels[i]);
    return values;
}

// A picture, and its values as the writers want them.
Image picture(std::int64_t width, std::int64_t height) {
    Image image(width, height);
    for (std::size_t i = 0; i < image.pixels.size(); ++i)
        image.pixels[i] = static_cast<std::uint8_t>(i * 37 + i / 7);
    return image;
}
std::vector<int> values_of(const Image& image) {
    return {image.pixels.begin(), image.pixels.end()};
}

// Every shorter form of a file is refused in words, or is an image all the same.
void expect_cut_is_refused(const std::string& whole, const std::string& word) {
    std::size_t refused = 0;
    for (std::size_t length = 16; length + 16 < whole.size(); length += 1 + whole.size() / 40) {
        try {
            decode_image(bytes_of(whole.substr(0, length)));
        } catch (const InputError& error) {
            EXPECT_THAT(error.what(), HasSubstr(word)) << length;
            ++refused;
        }
    }
    EXPECT_GT(refused, 10U);
}

TEST(Tiff, EveryKindDecodesToItsColours) {
    const Image image = picture(21, 18);
    for (const bool tiled : {false, true})
        for (const int compression : {1, 5, 8}) {
            const std::string tiff =
                test::tiff_of({.compression = compression, .tiled = tiled}, 21, 18, values_of(image));
            EXPECT_EQ(decode_image(bytes_of(tiff)).pixels, image.pixels) << compression;
            EXPECT_EQ(read_facts(bytes_of(tiff)).channels, 3);
            EXPECT_EQ(format_name(read_facts(bytes_of(tiff)).format), "TIFF");
            expect_cut_is_refused(tiff, "damaged TIFF");
        }
    const std::string grey = test::tiff_of({.samples = 1}, 3, 1, {0, 100, 255});
    EXPECT_THAT(reds(decode_image(bytes_of(grey))), ElementsAre(0, 100, 255));
    EXPECT_EQ(read_facts(bytes_of(grey)).channels, 1);
    EXPECT_THAT(
        reds(decode_image(bytes_of(test::tiff_of({.samples = 1, .white_is_zero = true}, 2, 1, {0, 255})))),
        ElementsAre(255, 0));
    const std::string alpha = test::tiff_of({.samples = 4}, 2, 1, {200, 0, 0, 255, 200, 0, 0, 0});
    EXPECT_THAT(reds(decode_image(bytes_of(alpha), {.background = {9, 9, 9}})), ElementsAre(200, 9));
    EXPECT_EQ(read_facts(bytes_of(alpha)).channels, 4);
    // Turned upside down, as its orientation says.
    EXPECT_THAT(reds(decode_image(bytes_of(test::tiff_of({.samples = 1, .orientation = 4}, 1, 2, {7, 70})))),
                ElementsAre(70, 7));
}

TEST(Tiff, WhatIsNoPictureIsRefusedInWords) {
    EXPECT_THAT(message_of<InputError>([] {
                    decode_image(bytes_of(test::tiff_of({.samples = 1, .pages = 3}, 2, 1, {1, 2})));
                }),
                HasSubstr("it has 3 pages; save the one"));
    EXPECT_THAT(message_of<InputError>([] {
                    decode_image(bytes_of(test::tiff_of({.samples = 1, .floats = true}, 2, 1, {1, 2})));
                }),
                HasSubstr("floating-point"));
}

TEST(SixteenBits, GreyKeepsTheStatedRange) {
    for (const bool tiled : {false, true}) {
        const std::string tiff =
            test::tiff_of({.bits = 16, .samples = 1, .tiled = tiled}, 4, 1, {0, 1024, 4095, 65535});
        EXPECT_THAT(reds(decode_image(bytes_of(tiff))), ElementsAre(0, 4, 16, 255));
        EXPECT_THAT(reds(decode_image(bytes_of(tiff), {.value_range = {0, 4095}})),
                    ElementsAre(0, 64, 255, 255));
        EXPECT_THAT(reds(decode_image(bytes_of(tiff), {.value_range = {1024, 4095}})),
                    ElementsAre(0, 0, 255, 255));
        Fitting fitting{.size = {1, 4}, .fit = Fit::stretch, .value_range = {0, 4095}, .channels = 1};
        EXPECT_THAT(fit_image(bytes_of(tiff), fitting), ElementsAre(0, 64, 255, 255));
        // The range is part of the preparation that a model carries.
        const Preparation again =
            Preparation::from_json(Preparation{.fitting = fitting, .scaling = {}}.to_json());
        EXPECT_EQ(again.fitting.value_range.high, 4095);
        EXPECT_EQ(again.fitting.key(), fitting.key());
    }
}

TEST(Bmp, ColoursAndGreyPalettesDecode) {
    const Image image = picture(5, 3);
    const std::string colours = test::bmp_of(image);
    EXPECT_EQ(decode_image(bytes_of(colours)).pixels, image.pixels);
    EXPECT_EQ(read_facts(bytes_of(colours)).channels, 3);
    const std::string greys = test::bmp_of(image, true);
    EXPECT_EQ(read_facts(bytes_of(greys)).channels, 1);
    EXPECT_EQ(reds(decode_image(bytes_of(greys))), reds(image));
    expect_cut_is_refused(test::bmp_of(picture(40, 30)), "damaged BMP");
}

TEST(Gif, ItsFirstFrameDecodes) {
    std::vector<int> indices(9 * 11);
    std::iota(indices.begin(), indices.end(), 50);
    for (const bool interlaced : {false, true}) {
        const std::string gif = test::gif_of(9, 11, indices, -1, interlaced, 2);
        EXPECT_EQ(reds(decode_image(bytes_of(gif))), indices);
        EXPECT_EQ(read_facts(bytes_of(gif)).channels, 1);
    }
    const std::string through = test::gif_of(2, 1, {10, 20}, 20);
    EXPECT_THAT(reds(decode_image(bytes_of(through), {.background = {3, 3, 3}})), ElementsAre(10, 3));
    EXPECT_THAT(decode_cutout(bytes_of(through)).alpha, ElementsAre(255, 0));
    expect_cut_is_refused(test::gif_of(9, 11, indices), "damaged GIF");
}

TEST(Avif, DecodesUpright) {
    const Image image = picture(16, 8);
    const std::string avif = test::avif_of(image);
    EXPECT_EQ(decode_image(bytes_of(avif)).pixels, image.pixels);
    EXPECT_EQ(read_facts(bytes_of(avif)).channels, 3);
    const std::string turned = test::avif_of(image, 1);
    EXPECT_EQ(read_facts(bytes_of(turned)).width, 8);
    const Image upright = decode_image(bytes_of(turned));
    // A quarter against the clock: the right column comes to the top.
    for (int x = 0; x < 8; ++x) EXPECT_EQ(upright.at(x, 0)[1], image.at(15, x)[1]) << x;
    const Image upside_down = decode_image(bytes_of(test::avif_of(image, 0, 0)));
    const Image mirrored = decode_image(bytes_of(test::avif_of(image, 0, 1)));
    const Image turned_and_mirrored = decode_image(bytes_of(test::avif_of(image, 1, 1)));
    for (int y = 0; y < 8; ++y)
        for (int x = 0; x < 16; ++x) {
            EXPECT_EQ(upside_down.at(x, y)[1], image.at(x, 7 - y)[1]) << x << " " << y;
            EXPECT_EQ(mirrored.at(x, y)[1], image.at(15 - x, y)[1]) << x << " " << y;
            EXPECT_EQ(turned_and_mirrored.at(y, x)[1], upright.at(7 - y, x)[1]) << x << " " << y;
        }
    expect_cut_is_refused(avif, "damaged AVIF");
}

TEST(ReadFormats, FoldersMayMixThem) {
    const TemporaryDirectory directory;
    make_directory(directory / "a");
    make_directory(directory / "b");
    write_file(directory / "a/1.tif", test::tiff_of({}, 3, 2, values_of(picture(3, 2))));
    write_file(directory / "a/2.bmp", test::bmp_of(picture(3, 2)));
    write_file(directory / "b/3.gif", test::gif_of(2, 1, {1, 2}));
    write_file(directory / "b/4.avif", test::avif_of(picture(4, 4)));
    write_file(directory / "b/5.TIFF", std::string("II*\0broken", 10));
    const ImageSet set = read_image_set({.from = directory.path()});
    EXPECT_EQ(set.items.size(), 4U);
    ASSERT_EQ(set.problems.size(), 1U);
    EXPECT_THAT(set.problems[0].problem, HasSubstr("damaged TIFF"));
}

std::string many_pixels(int images, int first) {
    std::string text;
    for (int i = 0; i < images * 4; ++i) text += static_cast<char>(first + i * 3);
    return text;
}

TEST(PublishedArrays, CompressedFilesWithAnOfficialDivision) {
    const TemporaryDirectory directory;
    write_file(directory / "train-images.gz", test::gzip_of(test::idx_of({4, 2, 2}, many_pixels(4, 0))));
    write_file(directory / "train-labels.gz", test::gzip_of(test::idx_of({4}, std::string("\0\1\0\1", 4))));
    write_file(directory / "test-images.gz", test::gzip_of(test::idx_of({2, 2, 2}, many_pixels(2, 100))));
    write_file(directory / "test-labels.gz", test::gzip_of(test::idx_of({2}, std::string("\1\0", 2))));
    const ImageSource source{.from = directory / "train-images.gz",
                             .labels = directory / "train-labels.gz",
                             .test_from = directory / "test-images.gz",
                             .test_labels = directory / "test-labels.gz"};
    const ImageSet set = read_image_set(source);
    ASSERT_EQ(set.items.size(), 6U);
    EXPECT_EQ(set.items[4].path, "test-images.gz[0]");
    EXPECT_EQ(set.items[4].part, Part::test);
    EXPECT_EQ(set.items[4].label, 1U);
    EXPECT_EQ(set.items[0].part, Part::training);
    EXPECT_THAT(reds(load_image(set, set.items[5])), ElementsAre(112, 115, 118, 121));
    ImageSource unlabelled = source;
    unlabelled.test_labels.clear();
    EXPECT_THAT(message_of<InputError>([&] { list_image_set(unlabelled); }), HasSubstr("'test_labels'"));
}

TEST(PublishedArrays, ArchivesAreDividedByTheirNames) {
    const TemporaryDirectory directory;
    const auto write = [&](const std::vector<std::pair<std::string, std::string>>& members) {
        write_file(directory / "digits.npz", test::zip_of(members));
    };
    write({{"x_train.npy", test::npy_of("|u1", "(3, 2, 2)", many_pixels(3, 0))},
           {"y_train.npy", test::npy_of("<i4", "(3, 1)", std::string("\0\0\0\0\1\0\0\0\1\0\0\0", 12))},
           {"x_test.npy", test::npy_of("|u1", "(2, 2, 2)", many_pixels(2, 50))},
           {"y_test.npy", test::npy_of("|u1", "(2,)", std::string("\1\0", 2))}});
    const ImageSet set = read_image_set({.from = directory / "digits.npz"});
    ASSERT_EQ(set.items.size(), 5U);
    EXPECT_EQ(set.items[0].part, Part::test);  // by name
    EXPECT_EQ(set.items[0].path, "digits.npz/x_test[0]");
    EXPECT_THAT(reds(load_image(set, set.items[2])), ElementsAre(0, 3, 6, 9));
    // One array by its name, with another as its labels.
    const ImageSet named = read_image_set(
        {.from = directory / "digits.npz/x_train", .labels = directory / "digits.npz/y_train"});
    EXPECT_EQ(named.items.size(), 3U);
    EXPECT_FALSE(named.items[0].part.has_value());
    EXPECT_THAT(
        message_of<InputError>([&] {
            list_image_set(
                {.from = directory / "digits.npz/x_tarin", .labels = directory / "digits.npz/y_train"});
        }),
        AllOf(HasSubstr("did you mean 'x_train'"), HasSubstr("it holds x_train, y_train, x_test, y_test")));
    write({{"images.npy", test::npy_of("|u1", "(3, 2, 2)", many_pixels(3, 0))}});
    EXPECT_THAT(message_of<InputError>([&] { list_image_set({.from = directory / "digits.npz"}); }),
                AllOf(HasSubstr("no array may be the labels of 'images'"), HasSubstr("digits.npz/images")));
    write({{"notes.txt", "no arrays"}});
    EXPECT_THAT(message_of<InputError>([&] { list_image_set({.from = directory / "digits.npz"}); }),
                HasSubstr("an archive without arrays"));
}

TEST(PublishedArrays, DamageAndBombsAreRefusedInWords) {
    const TemporaryDirectory directory;
    const auto refusal = [&](const std::string& bytes) {
        write_file(directory / "a.gz", bytes);
        return message_of<InputError>([&] { NumberArray(directory / "a.gz"); });
    };
    const std::string whole = test::idx_of({2, 2, 2}, many_pixels(2, 0));
    const std::string packed = test::gzip_of(whole);
    for (std::size_t length = 4; length < packed.size(); length += 3)
        EXPECT_THAT(refusal(packed.substr(0, length)), AllOf(HasSubstr("a.gz: "), HasSubstr("truncated")));
    std::string changed = packed;
    changed[changed.size() / 2] = static_cast<char>(changed[changed.size() / 2] ^ 0x55);
    EXPECT_THAT(refusal(changed), HasSubstr("a.gz: "));
    // More behind the array than it says: unpacking stops there.
    EXPECT_THAT(refusal(test::gzip_of(whole + std::string(std::size_t{64} << 20U, '\0'))),
                HasSubstr("means 8 numbers, but it holds"));
    // A header that claims more than there is memory.
    EXPECT_THAT(refusal(test::gzip_of(test::idx_of({1U << 30U, 1U << 12U, 4}, "x"))),
                HasSubstr("unpack it to a file"));
    EXPECT_THAT(refusal(test::gzip_of("neither")), HasSubstr("neither an IDX nor an NPY array"));
    const std::string archive = test::zip_of({{"a.npy", test::npy_of("|u1", "(8,)", many_pixels(2, 0))}});
    for (std::size_t length = 8; length < archive.size(); length += 7) {
        write_file(directory / "a.npz", archive.substr(0, length));
        EXPECT_THAT(message_of<InputError>([&] { NumberArray(directory / "a.npz/a"); }), HasSubstr("a.npz"));
    }
}

// Bytes of numbers, as they lie in memory or the other way round.
template <typename Number>
std::string stored(const std::vector<Number>& numbers, bool other_order) {
    std::string bytes;
    for (const Number number : numbers) {
        std::string one(reinterpret_cast<const char*>(&number), sizeof number);
        if (other_order) std::ranges::reverse(one);
        bytes += one;
    }
    return bytes;
}

// One row of three numbers of a type, as NPY in both orders and, where IDX has the type, as that.
template <typename Number>
void expect_numbers_of(const std::string& type, int idx_type) {
    const TemporaryDirectory directory;
    const Number lowest = std::numeric_limits<Number>::lowest();
    const std::vector<Number> numbers = {Number{1}, lowest, Number{100}};
    const auto expect = [&](const std::string& name, const std::string& bytes) {
        write_file(directory / name, bytes);
        const NumberArray array(directory / name);
        ASSERT_EQ(array.shape(), (std::vector<std::int64_t>{1, 3})) << name;
        const NumberRows rows = array.rows(0, 1);
        EXPECT_EQ(rows.at(0), 1.0) << name;
        EXPECT_EQ(rows.at(1), static_cast<double>(lowest)) << name;
        EXPECT_EQ(rows.at(2), 100.0) << name;
    };
    expect(type + ".npy", test::npy_of("<" + type, "(1, 3)", stored(numbers, false)));
    expect(type + "-big.npy", test::npy_of(">" + type, "(1, 3)", stored(numbers, true)));
    if (idx_type == 0) return;
    std::string idx = test::idx_of({1, 3}, stored(numbers, true));
    idx[2] = static_cast<char>(idx_type);
    expect(type + ".idx", idx);
}

TEST(PublishedArrays, NumbersMayBeOfAnyTypeAndOrder) {
    expect_numbers_of<std::uint8_t>("u1", 0x08);
    expect_numbers_of<std::int8_t>("i1", 0x09);
    expect_numbers_of<std::uint16_t>("u2", 0);
    expect_numbers_of<std::int16_t>("i2", 0x0B);
    expect_numbers_of<std::uint32_t>("u4", 0);
    expect_numbers_of<std::int32_t>("i4", 0x0C);
    expect_numbers_of<std::uint64_t>("u8", 0);
    expect_numbers_of<std::int64_t>("i8", 0);
    expect_numbers_of<float>("f4", 0x0D);
    expect_numbers_of<double>("f8", 0x0E);
    const TemporaryDirectory directory;
    // Versions 2 and 3 have a longer length of the header; there is no other.
    const std::string first = test::npy_of("|u1", "(1, 3)", "abc");
    for (const char version : {2, 3, 4}) {
        std::string later = first;
        later[6] = version;
        later.insert(10, 2, '\0');
        write_file(directory / "later.npy", later);
        if (version < 4) {
            EXPECT_EQ(NumberArray(directory / "later.npy").rows(0, 1).at(2), 'c') << version;
        } else {
            EXPECT_THAT(message_of<InputError>([&] { NumberArray(directory / "later.npy"); }),
                        HasSubstr("later.npy"));
        }
    }
    for (const char* shape : {"1, 3)", "[1, 3]", "(1, x)", "(-1, 3)"}) {
        write_file(directory / "shape.npy", test::npy_of("|u1", shape, "abc"));
        EXPECT_THAT(message_of<InputError>([&] { NumberArray(directory / "shape.npy"); }),
                    HasSubstr("shape.npy: it is a damaged NPY array (its shape)"))
            << shape;
    }
    std::string unknown = test::idx_of({1}, "x");
    unknown[2] = 0x0A;
    write_file(directory / "a.idx", unknown);
    EXPECT_THAT(message_of<InputError>([&] { NumberArray(directory / "a.idx"); }),
                HasSubstr("its type is unknown"));
    // Labels are a list or one-hot rows.
    write_file(directory / "cube.npy", test::npy_of("|u1", "(2, 2, 2)", many_pixels(2, 0)));
    write_file(directory / "p.npy", test::npy_of("|u1", "(2, 2, 2)", many_pixels(2, 0)));
    EXPECT_THAT(message_of<InputError>(
                    [&] { list_image_set({.from = directory / "p.npy", .labels = directory / "cube.npy"}); }),
                HasSubstr("its shape is [2, 2, 2]; labels need [count] or one-hot [count, classes]"));
}

TEST(PublishedArrays, SixteenBitsByTheStatedRange) {
    const TemporaryDirectory directory;
    const std::uint16_t values[] = {0, 1024, 4095, 65535};
    write_file(directory / "p.npy",
               test::npy_of("<u2", "(2, 1, 2)", {reinterpret_cast<const char*>(values), 8}));
    write_file(directory / "l.npy", test::npy_of("|u1", "(2,)", std::string("\0\1", 2)));
    const ImageSet set = read_image_set({.from = directory / "p.npy", .labels = directory / "l.npy"});
    const auto fitted = [&](const ValueRange& range) {
        const Fitting fitting{.size = {1, 2}, .fit = Fit::stretch, .value_range = range, .channels = 1};
        return load_fitted(set, set.items[1], fitting);
    };
    std::set<std::string> keys;
    for (const ValueRange& range :
         {ValueRange{}, ValueRange{0, 4095}, ValueRange{0, 8190}, ValueRange{1, 4095}})
        keys.insert(Fitting{.value_range = range}.key());
    EXPECT_EQ(keys.size(), 4U);  // fitted otherwise, known otherwise
    EXPECT_THAT(fitted({}), ElementsAre(16, 255));
    EXPECT_THAT(fitted({0, 8190}), ElementsAre(128, 255));
}

TEST(ReadFormats, SettingsOfAnotherKindOfSourceAreRefused) {
    const test::TemporaryDirectory directory;
    test::write_small_set(directory / "set", {"a", "b"}, 2);
    write_file(directory / "index.csv", std::string("path,label\nset/a/00.png,a\nset/b/00.png,b\n"));
    write_file(directory / "p.idx", test::idx_of({2, 2, 2}, many_pixels(2, 0)));
    write_file(directory / "l.idx", test::idx_of({2}, std::string("\0\1", 2)));
    write_file(directory / "both.npz",
               test::zip_of({{"x.npy", test::npy_of("|u1", "(2, 2, 2)", many_pixels(2, 0))},
                             {"y.npy", test::npy_of("|u1", "(2,)", std::string("\0\1", 2))}}));
    const auto refusal = [&](const ImageSource& source) {
        return test::message_of<InputError>([&] { list_image_set(source); });
    };
    EXPECT_THAT(refusal({.from = directory / "set", .test_from = directory / "set"}),
                AllOf(HasSubstr("set: 'test_from' applies to arrays only, and this is a folder of images"),
                      HasSubstr("one folder per part")));
    EXPECT_THAT(
        refusal({.from = directory / "index.csv", .labels = directory / "l.idx"}),
        AllOf(HasSubstr("'labels' applies to arrays only, and this is a CSV index"), HasSubstr("'part'")));
    EXPECT_THAT(refusal({.from = directory / "set", .transposed = true}), HasSubstr("'transposed'"));
    EXPECT_THAT(
        refusal(
            {.from = directory / "p.idx", .labels = directory / "l.idx", .columns = {{"label", "class"}}}),
        HasSubstr("'columns' applies to a CSV index only"));
    EXPECT_THAT(refusal({.from = directory / "both.npz", .labels = directory / "l.idx"}),
                AllOf(HasSubstr("an archive of arrays"), HasSubstr("from = \"both.npz/images\"")));
}

}  // namespace
}  // namespace jevrin
