#include "jevrin/base/error.hpp"
#include "jevrin/images/decoders.hpp"

#include <fmt/format.h>
#include <webp/decode.h>

namespace jevrin::inline v1 {
namespace {

const std::uint8_t* data(std::span<const std::byte> bytes) {
    return reinterpret_cast<const std::uint8_t*>(bytes.data());
}

WebPBitstreamFeatures read_features(std::span<const std::byte> bytes) {
    WebPBitstreamFeatures features{};
    if (WebPGetFeatures(data(bytes), bytes.size(), &features) != VP8_STATUS_OK)
        throw InputError("it is a damaged WebP (its header)");
    if (features.has_animation != 0) throw InputError("it is an animated WebP; save one frame as an image");
    require_allowed_size(features.width, features.height);
    return features;
}

void require_decoded(const std::uint8_t* result) {
    if (result == nullptr) throw InputError("it is a damaged WebP (truncated, or invalid data)");
}

}  // namespace

ImageFacts webp_facts(std::span<const std::byte> bytes) {
    const WebPBitstreamFeatures features = read_features(bytes);
    return {.format = ImageFormat::webp,
            .width = features.width,
            .height = features.height,
            .channels = features.has_alpha != 0 ? 4 : 3};
}

Image decode_opaque_webp(std::span<const std::byte> bytes) {
    const WebPBitstreamFeatures features = read_features(bytes);
    Image image(features.width, features.height);
    require_decoded(WebPDecodeRGBInto(data(bytes), bytes.size(), image.pixels.data(), image.pixels.size(),
                                      features.width * 3));
    return image;
}

TransparentImage decode_transparent_webp(std::span<const std::byte> bytes) {
    const WebPBitstreamFeatures features = read_features(bytes);
    TransparentImage image{features.width, features.height, {}};
    image.pixels.resize(static_cast<std::size_t>(image.width * image.height * 4));
    require_decoded(WebPDecodeRGBAInto(data(bytes), bytes.size(), image.pixels.data(), image.pixels.size(),
                                       features.width * 4));
    return image;
}

}  // namespace jevrin::inline v1
