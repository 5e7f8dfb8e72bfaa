// Decodes PNG, JPEG, WebP, TIFF, BMP, GIF and AVIF, recognised by content; applies the orientation that a
// file states and a background.
//
//     Image image = decode_image(read_file("tile.jpg"), {.background = {0, 0, 0}});
//
// Invalid bytes are an InputError that says so and names no file: empty, not an
// image, cut short, animated, too large.
#pragma once

#include "jevrin/images/image.hpp"

#include <string>

namespace jevrin::inline v1 {

// values: pixels that did not come from an image file but from an array of numbers.
enum class ImageFormat { unknown, png, jpeg, webp, values, tiff, bmp, gif, avif };

// By content, not by name.
ImageFormat image_format(std::span<const std::byte> bytes);

// "PNG", "JPEG", "WebP", "TIFF", ..., "array".
std::string format_name(ImageFormat format);

// Images with more pixels than this are refused before memory is taken.
inline constexpr std::int64_t largest_image_pixels = 100'000'000;
// And files of more bytes than this are not read.
inline constexpr std::int64_t largest_image_file = std::int64_t{1} << 30;

// What the bytes are, whatever they are made into.
struct ImageFacts {
    ImageFormat format = ImageFormat::unknown;
    std::int64_t width = 0;  // upright, as stated by the EXIF orientation of a JPEG
    std::int64_t height = 0;
    int channels = 3;  // 1 grey, 2 grey and alpha, 3 colour, 4 colour and alpha (or CMYK)
};

// From the header alone; the rest may still be damaged.
ImageFacts read_facts(std::span<const std::byte> bytes);

// Which values of 16-bit grey become 0 and 255; those between are rounded, those beyond are held.
struct ValueRange {
    int low = 0;
    int high = 65'535;

    std::uint8_t byte(int value) const {
        const int held = value < low ? low : value > high ? high : value;
        return static_cast<std::uint8_t>((510 * static_cast<std::int64_t>(held - low) + (high - low)) /
                                         (2 * static_cast<std::int64_t>(high - low)));
    }
    bool operator==(const ValueRange&) const = default;
};

struct DecodeSettings {
    Colour background = white;  // under transparent parts
    // 1, 2, 4 or 8: a JPEG is decoded to sides this many times shorter (rounded up), which is much faster
    // than decoding it whole. Other formats are always decoded whole.
    int reduction = 1;
    ValueRange value_range = {};
};

// Upright, transparent parts over the background. InputError says what is wrong with the bytes: another
// format, cut short, damaged, or too large.
Image decode_image(std::span<const std::byte> bytes, const DecodeSettings& settings = {});

// An overlay: its colours and how opaque each pixel is.
struct Cutout {
    Image colours;
    std::vector<std::uint8_t> alpha;  // [height, width]; 255 is opaque
};

// An image with alpha; what has none is opaque everywhere.
Cutout decode_cutout(std::span<const std::byte> bytes);

}  // namespace jevrin::inline v1
