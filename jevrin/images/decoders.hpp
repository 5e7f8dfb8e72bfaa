// One wrapper per format, behind decoding.hpp. Bytes begin with the format's own mark.
#pragma once

#include "jevrin/images/decoding.hpp"

namespace jevrin::inline v1 {

// Colours with alpha as [height, width, 4].
struct TransparentImage {
    std::int64_t width = 0;
    std::int64_t height = 0;
    std::vector<std::uint8_t> pixels;
};

// InputError when width x height is nothing, or more than largest_image_pixels.
void require_allowed_size(std::int64_t width, std::int64_t height);

ImageFacts png_facts(std::span<const std::byte> bytes);
Image decode_opaque_png(std::span<const std::byte> bytes, const ValueRange& range);
TransparentImage decode_transparent_png(std::span<const std::byte> bytes);

ImageFacts jpeg_facts(std::span<const std::byte> bytes);
Image decode_jpeg(std::span<const std::byte> bytes, int reduction);

ImageFacts webp_facts(std::span<const std::byte> bytes);
Image decode_opaque_webp(std::span<const std::byte> bytes);
TransparentImage decode_transparent_webp(std::span<const std::byte> bytes);

ImageFacts tiff_facts(std::span<const std::byte> bytes);
Image decode_opaque_tiff(std::span<const std::byte> bytes, const ValueRange& range);
TransparentImage decode_transparent_tiff(std::span<const std::byte> bytes);

ImageFacts bmp_facts(std::span<const std::byte> bytes);
Image decode_bmp(std::span<const std::byte> bytes);

// The first frame.
ImageFacts gif_facts(std::span<const std::byte> bytes);
TransparentImage decode_transparent_gif(std::span<const std::byte> bytes);

ImageFacts avif_facts(std::span<const std::byte> bytes);
TransparentImage decode_transparent_avif(std::span<const std::byte> bytes);

}  // namespace jevrin::inline v1
