#include "jevrin/base/error.hpp"
#include "jevrin/images/decoders.hpp"

#include <avif/avif.h>
#include <dlfcn.h>
#include <fmt/format.h>

#include <memory>
#include <utility>

namespace jevrin::inline v1 {
namespace {

// libavif and the decoders behind it take more address space than everything else together, and few image
// sets hold AVIF: it is loaded for the first one.
struct AvifLibrary {
    decltype(&avifDecoderCreate) create;
    decltype(&avifDecoderDestroy) destroy;
    decltype(&avifDecoderSetIOMemory) set_memory;
    decltype(&avifDecoderParse) parse;
    decltype(&avifDecoderNextImage) next_image;
    decltype(&avifCodecName) codec_name;
    decltype(&avifResultToString) result_text;
    decltype(&avifRGBImageSetDefaults) set_defaults;
    decltype(&avifImageYUVToRGB) to_rgb;
};

const AvifLibrary& avif() {
    static const AvifLibrary library = [] {
        void* const handle = ::dlopen(JEVRIN_AVIF_LIBRARY, RTLD_NOW | RTLD_LOCAL);
        if (handle == nullptr)
            throw InputError(
                fmt::format("it is an AVIF, and {} cannot be loaded to decode it; install it, or convert "
                            "the image to PNG, JPEG or WebP",
                            JEVRIN_AVIF_LIBRARY));
        const auto find = [&]<typename Function>(const char* name, Function& function) {
            function = reinterpret_cast<Function>(::dlsym(handle, name));
            if (function == nullptr)
                throw InputError(
                    fmt::format("it is an AVIF, and {} is another version of the library than is needed; "
                                "install the right one, or convert the image to PNG, JPEG or WebP",
                                JEVRIN_AVIF_LIBRARY));
        };
        AvifLibrary found{};
        find("avifDecoderCreate", found.create);
        find("avifDecoderDestroy", found.destroy);
        find("avifDecoderSetIOMemory", found.set_memory);
        find("avifDecoderParse", found.parse);
        find("avifDecoderNextImage", found.next_image);
        find("avifCodecName", found.codec_name);
        find("avifResultToString", found.result_text);
        find("avifRGBImageSetDefaults", found.set_defaults);
        find("avifImageYUVToRGB", found.to_rgb);
        return found;
    }();
    return library;
}

struct DestroyDecoder {
    void operator()(avifDecoder* decoder) const { avif().destroy(decoder); }
};
using Decoder = std::unique_ptr<avifDecoder, DestroyDecoder>;

void require(avifResult result) {
    if (result != AVIF_RESULT_OK)
        throw InputError(fmt::format("it is a damaged AVIF ({})", avif().result_text(result)));
}

Decoder open(std::span<const std::byte> bytes) {
    Decoder decoder(avif().create());
    decoder->maxThreads = 1;
    // Of the decoders that the library may have, this one prints nothing about damaged files.
    if (avif().codec_name(AVIF_CODEC_CHOICE_AOM, AVIF_CODEC_FLAG_CAN_DECODE) != nullptr)
        decoder->codecChoice = AVIF_CODEC_CHOICE_AOM;
    decoder->imageSizeLimit = largest_image_pixels;
    require(
        avif().set_memory(decoder.get(), reinterpret_cast<const std::uint8_t*>(bytes.data()), bytes.size()));
    require(avif().parse(decoder.get()));
    if (decoder->imageCount != 1) throw InputError("it is an animated AVIF; save one frame as an image");
    require_allowed_size(decoder->image->width, decoder->image->height);
    return decoder;
}

// Quarter turns against the clock, and a mirror, that the file asks for.
struct Turns {
    int quarters = 0;
    int mirror = -1;  // 0: top and bottom exchanged, 1: left and right
};

Turns turns_of(const avifImage& image) {
    Turns turns;
    if ((image.transformFlags & AVIF_TRANSFORM_IROT) != 0) turns.quarters = image.irot.angle & 3;
    if ((image.transformFlags & AVIF_TRANSFORM_IMIR) != 0) turns.mirror = image.imir.mode;
    return turns;
}

TransparentImage turned(const TransparentImage& from, const Turns& turns) {
    const bool lies = turns.quarters % 2 == 1;
    TransparentImage to{lies ? from.height : from.width, lies ? from.width : from.height, {}};
    to.pixels.resize(from.pixels.size());
    for (std::int64_t y = 0; y < to.height; ++y)
        for (std::int64_t x = 0; x < to.width; ++x) {
            std::int64_t u = turns.mirror == 1 ? to.width - 1 - x : x;
            std::int64_t v = turns.mirror == 0 ? to.height - 1 - y : y;
            std::int64_t width = to.width;
            std::int64_t height = to.height;
            for (int q = 0; q < turns.quarters; ++q) {  // back with the clock
                std::tie(u, v) = std::pair(height - 1 - v, u);
                std::swap(width, height);
            }
            std::copy_n(from.pixels.begin() + (v * from.width + u) * 4, 4,
                        to.pixels.begin() + (y * to.width + x) * 4);
        }
    return to;
}

}  // namespace

ImageFacts avif_facts(std::span<const std::byte> bytes) {
    const Decoder decoder = open(bytes);
    const avifImage& image = *decoder->image;
    const bool lies = turns_of(image).quarters % 2 == 1;
    const bool grey = image.yuvFormat == AVIF_PIXEL_FORMAT_YUV400;
    return {.format = ImageFormat::avif,
            .width = lies ? image.height : image.width,
            .height = lies ? image.width : image.height,
            .channels = (grey ? 1 : 3) + (decoder->alphaPresent != 0 ? 1 : 0)};
}

TransparentImage decode_transparent_avif(std::span<const std::byte> bytes) {
    const Decoder decoder = open(bytes);
    require(avif().next_image(decoder.get()));
    avifRGBImage rgb;
    avif().set_defaults(&rgb, decoder->image);
    rgb.depth = 8;
    rgb.format = AVIF_RGB_FORMAT_RGBA;
    rgb.alphaPremultiplied = AVIF_FALSE;
    TransparentImage image{decoder->image->width, decoder->image->height, {}};
    image.pixels.resize(static_cast<std::size_t>(image.width * image.height * 4));
    rgb.pixels = image.pixels.data();
    rgb.rowBytes = decoder->image->width * 4;
    require(avif().to_rgb(decoder->image, &rgb));
    return turned(image, turns_of(*decoder->image));
}

}  // namespace jevrin::inline v1
