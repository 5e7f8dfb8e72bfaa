#include "jevrin/images/libraries.hpp"

#include <avif/avif.h>
#include <fmt/format.h>
#include <gif_lib.h>
// jpeglib.h needs size_t and FILE before it.
#include <jpeglib.h>
#include <png.h>
#include <tiffio.h>
#include <webp/decode.h>

#include <cstddef>
#include <cstdio>

namespace jevrin::inline v1 {

std::map<std::string, std::string> image_libraries() {
    const int webp = WebPGetDecoderVersion();
    const int jpeg = LIBJPEG_TURBO_VERSION_NUMBER;
    return {{"libpng", png_get_libpng_ver(nullptr)},
            {"libjpeg-turbo", fmt::format("{}.{}.{}", jpeg / 1'000'000, jpeg / 1000 % 1000, jpeg % 1000)},
            {"libtiff", fmt::format("{}", TIFFLIB_VERSION)},
            {"giflib", fmt::format("{}.{}.{}", GIFLIB_MAJOR, GIFLIB_MINOR, GIFLIB_RELEASE)},
            {"libavif", fmt::format("{}.{}.{}", AVIF_VERSION_MAJOR, AVIF_VERSION_MINOR, AVIF_VERSION_PATCH)},
            {"libwebp", fmt::format("{}.{}.{}", webp >> 16, webp >> 8 & 255, webp & 255)}};
}

}  // namespace jevrin::inline v1
