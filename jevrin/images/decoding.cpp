#include "jevrin/images/decoding.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/images/decoders.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <string_view>

namespace jevrin::inline v1 {
namespace {

bool has_mark(std::span<const std::byte> bytes, std::string_view mark, std::size_t at = 0) {
    return bytes.size() >= at + mark.size() && std::memcmp(bytes.data() + at, mark.data(), mark.size()) == 0;
}

bool has_alpha(const ImageFacts& facts) {
    return facts.channels % 2 == 0 && facts.format != ImageFormat::jpeg;
}

TransparentImage decode_transparent(std::span<const std::byte> bytes, ImageFormat format) {
    switch (format) {
        case ImageFormat::png:
            return decode_transparent_png(bytes);
        case ImageFormat::webp:
            return decode_transparent_webp(bytes);
        case ImageFormat::tiff:
            return decode_transparent_tiff(bytes);
        case ImageFormat::gif:
            return decode_transparent_gif(bytes);
        case ImageFormat::avif:
            return decode_transparent_avif(bytes);
        case ImageFormat::jpeg:
        case ImageFormat::bmp:
        case ImageFormat::values:
        case ImageFormat::unknown:
            break;
    }
    unhandled(format);
}

[[noreturn]] void refuse_unknown(std::span<const std::byte> bytes) {
    struct Foreign {
        std::string_view mark;
        const char* name;
    };
    constexpr Foreign foreign[] = {{std::string_view("\0\0\1\0", 4), "an icon"},
                                   {"8BPS", "a layered document"},
                                   {"%PDF", "a PDF"},
                                   {"%!PS", "a PostScript document"}};
    for (const Foreign& other : foreign)
        if (has_mark(bytes, other.mark))
            throw InputError(
                fmt::format("it is {}, which is not supported; convert it to PNG, JPEG or WebP", other.name));
    if (has_mark(bytes, "ftyp", 4))
        throw InputError(
            "it is a film, or an image in a film's container, which is not supported; convert it to "
            "PNG, JPEG or WebP");
    throw InputError("it is not an image of a known format");
}

}  // namespace

void require_allowed_size(std::int64_t width, std::int64_t height) {
    if (width < 1 || height < 1) throw InputError("it has no pixels");
    if (height > largest_image_pixels / width)
        throw InputError(fmt::format("it has {}x{} pixels; the limit is {} million, make it smaller", width,
                                     height, largest_image_pixels / 1'000'000));
}

ImageFormat image_format(std::span<const std::byte> bytes) {
    if (has_mark(bytes, "\x89PNG\r\n\x1a\n")) return ImageFormat::png;
    if (has_mark(bytes, "\xff\xd8\xff")) return ImageFormat::jpeg;
    if (has_mark(bytes, "RIFF") && has_mark(bytes, "WEBP", 8)) return ImageFormat::webp;
    for (const std::string_view tiff : {std::string_view("II*\0", 4), std::string_view("MM\0*", 4),
                                        std::string_view("II+\0", 4), std::string_view("MM\0+", 4)})
        if (has_mark(bytes, tiff)) return ImageFormat::tiff;
    if (has_mark(bytes, "GIF87a") || has_mark(bytes, "GIF89a")) return ImageFormat::gif;
    if (has_mark(bytes, "ftypavif", 4) || has_mark(bytes, "ftypavis", 4)) return ImageFormat::avif;
    if (has_mark(bytes, "BM") && bytes.size() > 14) return ImageFormat::bmp;
    return ImageFormat::unknown;
}

std::string format_name(ImageFormat format) {
    switch (format) {
        case ImageFormat::png:
            return "PNG";
        case ImageFormat::jpeg:
            return "JPEG";
        case ImageFormat::webp:
            return "WebP";
        case ImageFormat::tiff:
            return "TIFF";
        case ImageFormat::bmp:
            return "BMP";
        case ImageFormat::gif:
            return "GIF";
        case ImageFormat::avif:
            return "AVIF";
        case ImageFormat::values:
            return "array";
        case ImageFormat::unknown:
            break;
    }
    return "unknown";
}

ImageFacts read_facts(std::span<const std::byte> bytes) {
    if (bytes.empty()) throw InputError("it is empty");
    switch (image_format(bytes)) {
        case ImageFormat::png:
            return png_facts(bytes);
        case ImageFormat::jpeg:
            return jpeg_facts(bytes);
        case ImageFormat::webp:
            return webp_facts(bytes);
        case ImageFormat::tiff:
            return tiff_facts(bytes);
        case ImageFormat::bmp:
            return bmp_facts(bytes);
        case ImageFormat::gif:
            return gif_facts(bytes);
        case ImageFormat::avif:
            return avif_facts(bytes);
        case ImageFormat::values:
        case ImageFormat::unknown:
            break;
    }
    refuse_unknown(bytes);
}

Image decode_image(std::span<const std::byte> bytes, const DecodeSettings& settings) {
    const ImageFacts facts = read_facts(bytes);
    if (facts.format == ImageFormat::jpeg) return decode_jpeg(bytes, settings.reduction);
    if (facts.format == ImageFormat::bmp) return decode_bmp(bytes);
    if (!has_alpha(facts) && facts.format == ImageFormat::png)
        return decode_opaque_png(bytes, settings.value_range);
    if (!has_alpha(facts) && facts.format == ImageFormat::tiff)
        return decode_opaque_tiff(bytes, settings.value_range);
    if (!has_alpha(facts) && facts.format == ImageFormat::webp) return decode_opaque_webp(bytes);
    const TransparentImage layers = decode_transparent(bytes, facts.format);
    Image image(layers.width, layers.height);
    for (std::size_t p = 0; p < layers.pixels.size() / 4; ++p) {
        const int alpha = layers.pixels[p * 4 + 3];
        for (std::size_t c = 0; c < 3; ++c)
            image.pixels[p * 3 + c] = static_cast<std::uint8_t>(
                (layers.pixels[p * 4 + c] * alpha + settings.background[c] * (255 - alpha) + 127) / 255);
    }
    return image;
}

Cutout decode_cutout(std::span<const std::byte> bytes) {
    const ImageFacts facts = read_facts(bytes);
    Cutout cutout;
    if (!has_alpha(facts)) {
        cutout.colours = decode_image(bytes);
        cutout.alpha.assign(cutout.colours.pixels.size() / 3, 255);
        return cutout;
    }
    const TransparentImage layers = decode_transparent(bytes, facts.format);
    cutout.colours = Image(layers.width, layers.height);
    cutout.alpha.resize(layers.pixels.size() / 4);
    for (std::size_t p = 0; p < cutout.alpha.size(); ++p) {
        std::copy_n(layers.pixels.data() + p * 4, 3, cutout.colours.pixels.data() + p * 3);
        cutout.alpha[p] = layers.pixels[p * 4 + 3];
    }
    return cutout;
}

}  // namespace jevrin::inline v1
