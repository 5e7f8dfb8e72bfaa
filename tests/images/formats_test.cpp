// Every kind of file that may come: what it decodes to, exactly where the format says so.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/images/preparation.hpp"

#include <fmt/format.h>
#include <png.h>
#include <turbojpeg.h>
#include <webp/encode.h>

#include <cmath>
#include <cstring>

namespace jevrin {
namespace {

using test::bytes_of;
using test::message_of;
using testing::ElementsAre;
using testing::HasSubstr;

std::vector<int> pixel(const Image& image, std::int64_t x, std::int64_t y) {
    return {image.at(x, y), image.at(x, y) + 3};
}

// A PNG through libpng's full interface, which writes every kind.
struct PngKind {
    int depth = 8;
    int type = PNG_COLOR_TYPE_RGB;
    bool interlaced = false;
    std::vector<png_color> palette = {};
    std::vector<png_byte> palette_alpha = {};
    bool grey_is_transparent = false;  // the grey value 0
    double gamma = 0.0;                // of the file; 0: it states none
};

std::vector<std::byte> write_png(const PngKind& kind, png_uint_32 width, png_uint_32 height,
                                 std::vector<std::vector<png_byte>> rows) {
    std::vector<std::byte> bytes;
    png_structp png = png_create_write_struct(PNG_LIBPNG_VER_STRING, nullptr, nullptr, nullptr);
    png_infop info = png_create_info_struct(png);
    png_set_write_fn(
        png, &bytes,
        [](png_structp p, png_bytep data, png_size_t size) {
            auto& out = *static_cast<std::vector<std::byte>*>(png_get_io_ptr(p));
            const auto* first = reinterpret_cast<const std::byte*>(data);
            out.insert(out.end(), first, first + size);
        },
        [](png_structp) {});
    png_set_IHDR(png, info, width, height, kind.depth, kind.type,
                 kind.interlaced ? PNG_INTERLACE_ADAM7 : PNG_INTERLACE_NONE, PNG_COMPRESSION_TYPE_DEFAULT,
                 PNG_FILTER_TYPE_DEFAULT);
    if (!kind.palette.empty())
        png_set_PLTE(png, info, kind.palette.data(), static_cast<int>(kind.palette.size()));
    if (!kind.palette_alpha.empty())
        png_set_tRNS(png, info, kind.palette_alpha.data(), static_cast<int>(kind.palette_alpha.size()),
                     nullptr);
    if (kind.gamma > 0.0) png_set_gAMA(png, info, kind.gamma);
    png_color_16 transparent{};
    if (kind.grey_is_transparent) png_set_tRNS(png, info, nullptr, 0, &transparent);
    std::vector<png_bytep> pointers;
    for (auto& row : rows) pointers.push_back(row.data());
    png_set_rows(png, info, pointers.data());
    png_write_png(png, info, PNG_TRANSFORM_IDENTITY, nullptr);
    png_destroy_write_struct(&png, &info);
    return bytes;
}

TEST(Png, EveryKindDecodesToItsColours) {
    const std::vector<png_color> palette = {{10, 20, 30}, {200, 100, 50}};
    const Image indexed =
        decode_image(write_png({.type = PNG_COLOR_TYPE_PALETTE, .palette = palette}, 2, 1, {{0, 1}}));
    EXPECT_THAT(pixel(indexed, 0, 0), ElementsAre(10, 20, 30));
    EXPECT_THAT(pixel(indexed, 1, 0), ElementsAre(200, 100, 50));
    const auto through = write_png(
        {.type = PNG_COLOR_TYPE_PALETTE, .palette = palette, .palette_alpha = {0, 255}}, 2, 1, {{0, 1}});
    EXPECT_THAT(pixel(decode_image(through, {.background = {1, 2, 3}}), 0, 0), ElementsAre(1, 2, 3));
    EXPECT_EQ(read_facts(through).channels, 4);

    // 16 bits: 0x8080 is 128 of 255, whatever the grammar of gamma says of files without one.
    const auto deep = write_png({.depth = 16, .type = PNG_COLOR_TYPE_GRAY}, 2, 1, {{0x80, 0x80, 0xFF, 0xFF}});
    EXPECT_THAT(pixel(decode_image(deep), 0, 0), ElementsAre(128, 128, 128));
    EXPECT_THAT(pixel(decode_image(deep), 1, 0), ElementsAre(255, 255, 255));
    EXPECT_EQ(read_facts(deep).channels, 1);

    const auto bits = write_png({.depth = 1, .type = PNG_COLOR_TYPE_GRAY}, 4, 1, {{0b10100000}});
    EXPECT_THAT(pixel(decode_image(bits), 0, 0), ElementsAre(255, 255, 255));
    EXPECT_THAT(pixel(decode_image(bits), 1, 0), ElementsAre(0, 0, 0));
    const auto keyed = write_png({.type = PNG_COLOR_TYPE_GRAY, .grey_is_transparent = true}, 2, 1, {{0, 77}});
    EXPECT_THAT(pixel(decode_image(keyed), 0, 0), ElementsAre(255, 255, 255));
    EXPECT_THAT(pixel(decode_image(keyed), 1, 0), ElementsAre(77, 77, 77));
    const auto woven = write_png({.interlaced = true}, 1, 3, {{1, 2, 3}, {4, 5, 6}, {7, 8, 9}});
    EXPECT_THAT(pixel(decode_image(woven), 0, 2), ElementsAre(7, 8, 9));
}

TEST(Png, SixteenBitsOfGreyAreTakenFromTheStatedRangeAsTheyAre) {
    // 0, 1024, 2048 and 4095 of 4095, whatever gamma the file states.
    const std::vector<std::vector<png_byte>> rows = {{0x00, 0x00, 0x04, 0x00}, {0x08, 0x00, 0x0F, 0xFF}};
    for (const bool interlaced : {false, true}) {
        const auto wide = write_png(
            {.depth = 16, .type = PNG_COLOR_TYPE_GRAY, .interlaced = interlaced, .gamma = 1.0}, 2, 2, rows);
        const Image image = decode_image(wide, {.value_range = {0, 4095}});
        EXPECT_THAT(pixel(image, 0, 0), ElementsAre(0, 0, 0));
        EXPECT_THAT(pixel(image, 1, 0), ElementsAre(64, 64, 64));
        EXPECT_THAT(pixel(image, 0, 1), ElementsAre(128, 128, 128));
        EXPECT_THAT(pixel(image, 1, 1), ElementsAre(255, 255, 255));
        EXPECT_THAT(test::message_of<InputError>([&] {
                        decode_image(std::span(wide).first(wide.size() - 25), {.value_range = {0, 4095}});
                    }),
                    testing::HasSubstr("damaged PNG"));
    }
    // Eight bits have no range to be taken from.
    const auto narrow = write_png({.type = PNG_COLOR_TYPE_GRAY}, 2, 1, {{10, 200}});
    EXPECT_THAT(pixel(decode_image(narrow, {.value_range = {0, 4095}}), 1, 0), ElementsAre(200, 200, 200));
}

TEST(Png, TransparentPartsLieOnTheStatedBackground) {
    const auto bytes =
        write_png({.type = PNG_COLOR_TYPE_RGB_ALPHA}, 3, 1, {{100, 0, 0, 255, 100, 0, 0, 51, 100, 0, 0, 0}});
    const Image on_black = decode_image(bytes, {.background = {0, 0, 0}});
    EXPECT_THAT(pixel(on_black, 0, 0), ElementsAre(100, 0, 0));
    EXPECT_THAT(pixel(on_black, 1, 0), ElementsAre(20, 0, 0));  // a fifth
    EXPECT_THAT(pixel(on_black, 2, 0), ElementsAre(0, 0, 0));
    EXPECT_THAT(pixel(decode_image(bytes), 1, 0), ElementsAre(224, 204, 204));
    const Cutout cutout = decode_cutout(bytes);
    EXPECT_THAT(cutout.alpha, ElementsAre(255, 51, 0));
    EXPECT_THAT(pixel(cutout.colours, 1, 0), ElementsAre(100, 0, 0));
    EXPECT_THAT(decode_cutout(encode_png(Image(2, 1))).alpha, ElementsAre(255, 255));
}

// The four corners of an 8x16 image in blocks that survive JPEG: red, green / blue, white.
Image corners() {
    Image image(32, 16);
    const std::uint8_t colours[4][3] = {{255, 0, 0}, {0, 255, 0}, {0, 0, 255}, {255, 255, 255}};
    for (std::int64_t y = 0; y < 16; ++y)
        for (std::int64_t x = 0; x < 32; ++x) std::copy_n(colours[(y / 8) * 2 + x / 16], 3, image.at(x, y));
    return image;
}

char corner_name(const Image& image, bool right, bool below) {
    const std::uint8_t* p = image.at(right ? image.width - 4 : 3, below ? image.height - 4 : 3);
    if (p[0] > 200 && p[1] > 200) return 'w';
    return p[0] > 150 ? 'r' : p[1] > 150 ? 'g' : 'b';
}

// The corners in reading order.
std::string corner_names(const Image& image) {
    return {corner_name(image, false, false), corner_name(image, true, false),
            corner_name(image, false, true), corner_name(image, true, true)};
}

// An EXIF segment with an orientation behind the first marker of a JPEG.
std::vector<std::byte> with_orientation(std::vector<std::byte> jpeg, int orientation, bool big_endian) {
    const auto number = [&](unsigned value, int length) {
        std::string text;
        for (int i = 0; i < length; ++i)
            text += static_cast<char>(value >> 8 * (big_endian ? length - 1 - i : i));
        return text;
    };
    std::string tiff = big_endian ? "MM" : "II";
    tiff += number(42, 2) + number(8, 4) + number(2, 2);
    tiff += number(0x010F, 2) + number(2, 2) + number(4, 4) + number(0, 4);  // another tag before it
    tiff += number(0x0112, 2) + number(3, 2) + number(1, 4) + number(static_cast<unsigned>(orientation), 2) +
            number(0, 2) + number(0, 4);
    const std::string payload = std::string("Exif\0\0", 6) + tiff;
    std::string segment = "\xFF\xE1";
    segment += static_cast<char>((payload.size() + 2) >> 8);
    segment += static_cast<char>(payload.size() + 2);
    segment += payload;
    const auto* first = reinterpret_cast<const std::byte*>(segment.data());
    jpeg.insert(jpeg.begin() + 2, first, first + segment.size());
    return jpeg;
}

TEST(Jpeg, EveryOrientationIsTurnedUpright) {
    // What a viewer shows: EXIF 2.3, tag 274. The stored image reads red, green / blue, white.
    const std::vector<std::string> expected = {"rgbw", "grwb", "wbgr", "bwrg",
                                               "rbgw", "brwg", "wgbr", "gwrb"};
    const auto jpeg = encode_jpeg(corners(), 95);
    for (int orientation = 1; orientation <= 8; ++orientation)
        for (const bool big_endian : {false, true}) {
            const auto turned = with_orientation(jpeg, orientation, big_endian);
            const Image image = decode_image(turned);
            EXPECT_EQ(corner_names(image), expected[static_cast<std::size_t>(orientation - 1)])
                << orientation;
            const ImageFacts facts = read_facts(turned);
            EXPECT_EQ(image.width, orientation >= 5 ? 16 : 32);
            EXPECT_EQ(facts.width, image.width);
            EXPECT_EQ(facts.height, image.height);
            EXPECT_EQ(decode_image(turned, {.reduction = 2}).width, image.width / 2);
        }
    for (const int nonsense : {0, 9, 60000})
        EXPECT_EQ(corner_names(decode_image(with_orientation(jpeg, nonsense, true))), "rgbw");
}

std::vector<std::byte> turbo_encode(const std::vector<unsigned char>& pixels, int width, int height,
                                    int format, int subsampling, int flags) {
    tjhandle turbo = tjInitCompress();
    unsigned char* buffer = nullptr;
    unsigned long size = 0;
    tjCompress2(turbo, pixels.data(), width, 0, height, format, &buffer, &size, subsampling, 95, flags);
    const auto* first = reinterpret_cast<const std::byte*>(buffer);
    std::vector<std::byte> bytes(first, first + size);
    tjFree(buffer);
    tjDestroy(turbo);
    return bytes;
}

TEST(Jpeg, GreyProgressiveAndInksDecode) {
    const Image image = corners();
    const auto progressive = turbo_encode(image.pixels, 32, 16, TJPF_RGB, TJSAMP_444, TJFLAG_PROGRESSIVE);
    EXPECT_EQ(corner_names(decode_image(progressive)), "rgbw");
    const auto grey = turbo_encode(std::vector<unsigned char>(64, 90), 8, 8, TJPF_GRAY, TJSAMP_GRAY, 0);
    EXPECT_THAT(pixel(decode_image(grey), 4, 4), ElementsAre(90, 90, 90));
    EXPECT_EQ(read_facts(grey).channels, 1);
    // Inks as a printer's file has them: libjpeg marks YCCK with Adobe's segment, so values are inverted.
    std::vector<unsigned char> inks;
    for (int i = 0; i < 64; ++i) inks.insert(inks.end(), {200, 100, 50, 255});
    const auto printed = turbo_encode(inks, 8, 8, TJPF_CMYK, TJSAMP_444, 0);
    EXPECT_EQ(read_facts(printed).channels, 4);
    const auto colour = pixel(decode_image(printed), 4, 4);
    EXPECT_NEAR(colour[0], 200, 3);
    EXPECT_NEAR(colour[1], 100, 3);
    EXPECT_NEAR(colour[2], 50, 3);
}

std::vector<std::byte> webp_of(const Image& image, bool lossless) {
    std::uint8_t* buffer = nullptr;
    const int width = static_cast<int>(image.width);
    const int height = static_cast<int>(image.height);
    const std::size_t size =
        lossless ? WebPEncodeLosslessRGB(image.pixels.data(), width, height, width * 3, &buffer)
                 : WebPEncodeRGB(image.pixels.data(), width, height, width * 3, 90.0F, &buffer);
    const auto* first = reinterpret_cast<const std::byte*>(buffer);
    std::vector<std::byte> bytes(first, first + size);
    WebPFree(buffer);
    return bytes;
}

TEST(WebP, DecodesBothFormsAndAlpha) {
    const Image image = corners();
    EXPECT_EQ(decode_image(webp_of(image, true)).pixels, image.pixels);
    EXPECT_EQ(corner_names(decode_image(webp_of(image, false))), "rgbw");
    const std::vector<std::uint8_t> half = {100, 0, 0, 51, 9, 9, 9, 255};
    std::uint8_t* buffer = nullptr;
    const std::size_t size = WebPEncodeLosslessRGBA(half.data(), 2, 1, 8, &buffer);
    const std::vector<std::byte> bytes(reinterpret_cast<std::byte*>(buffer),
                                       reinterpret_cast<std::byte*>(buffer) + size);
    WebPFree(buffer);
    EXPECT_EQ(read_facts(bytes).channels, 4);
    EXPECT_THAT(pixel(decode_image(bytes, {.background = {0, 0, 0}}), 0, 0), ElementsAre(20, 0, 0));
    const auto whole = webp_of(test::small_picture(1, 2, 40), false);
    for (std::size_t length = 12; length + 4 < whole.size(); length += 37)
        EXPECT_THAT(message_of<InputError>([&] { decode_image(std::span(whole).first(length)); }),
                    HasSubstr("damaged WebP"))
            << length;
}

TEST(Formats, AnimationsAndForeignFilesAreRefusedInWords) {
    auto animated = encode_png(Image(2, 2));
    const char chunk[] =
        "\0\0\0\x08"
        "acTL\0\0\0\2\0\0\0\0\0\0\0\0";
    const auto* first = reinterpret_cast<const std::byte*>(chunk);
    animated.insert(animated.begin() + 33, first, first + 20);
    EXPECT_THAT(message_of<InputError>([&] { decode_image(animated); }), HasSubstr("animated PNG"));
    // An extended WebP header with the animation flag.
    std::string webp = std::string("RIFF\x2A\0\0\0WEBPVP8X\x0A\0\0\0\x02\0\0\0\x01\0\0\x01\0\0", 30) +
                       std::string("ANIM\x06\0\0\0\0\0\0\0\0\0", 14);
    EXPECT_THAT(message_of<InputError>([&] { decode_image(bytes_of(webp)); }), HasSubstr("animated WebP"));
    for (const auto& [magic, name] :
         std::vector<std::pair<std::string, std::string>>{{"%PDF-1.4", "a PDF"},
                                                          {"8BPS1234", "a layered document"},
                                                          {std::string("\0\0\1\0abc", 7), "an icon"}})
        EXPECT_THAT(message_of<InputError>([&] { decode_image(bytes_of(magic)); }),
                    HasSubstr("it is " + name + ", which is not supported; convert it to PNG, JPEG or WebP"));
}

TEST(Fitting, AReducedJpegDiffersFromAWholeOneByAboutOneLevel) {
    // An image with detail: sums of waves and steps.
    Image image(512, 384);
    for (std::int64_t y = 0; y < image.height; ++y)
        for (std::int64_t x = 0; x < image.width; ++x)
            for (int c = 0; c < 3; ++c) {
                const double wave = 60 * std::sin(0.05 * static_cast<double>(x * (c + 1))) +
                                    40 * std::cos(0.31 * static_cast<double>(y) + c) +
                                    ((x / 37 + y / 23) % 2) * 50;
                image.at(x, y)[c] = static_cast<std::uint8_t>(std::clamp(110 + wave, 0.0, 255.0));
            }
    const auto jpeg = encode_jpeg(image, 90);
    for (const std::int64_t size : {32, 64, 120}) {
        const Fitting fitting{.size = size, .fit = Fit::crop};
        const auto reduced = fit_image(jpeg, fitting);
        const auto whole = fit_image(decode_image(jpeg), fitting);
        double difference = 0;
        for (std::size_t i = 0; i < whole.size(); ++i)
            difference += std::abs(int{whole[i]} - int{reduced[i]});
        EXPECT_LT(difference / static_cast<double>(whole.size()), 1.2) << size;
    }
    // Just too small to be reduced: nothing differs.
    EXPECT_EQ(fit_image(jpeg, {.size = 130, .fit = Fit::stretch}),
              fit_image(decode_image(jpeg), {.size = 130, .fit = Fit::stretch}));
}

TEST(Fitting, GreyIsTheStandardWeighting) {
    Image image(1, 1);
    image.pixels = {200, 100, 50};
    EXPECT_THAT(fit_image(image, {.size = 1, .channels = 1}),
                ElementsAre(124));  // 59.8 + 58.7 + 5.7 = 124.2
}

}  // namespace
}  // namespace jevrin
