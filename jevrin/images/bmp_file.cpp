#include "jevrin/base/error.hpp"
#include "jevrin/images/decoders.hpp"

#include <fmt/format.h>
#include <gd.h>

#include <cstdlib>
#include <memory>
#include <mutex>

namespace jevrin::inline v1 {
namespace {

std::uint32_t number(std::span<const std::byte> bytes, std::size_t at, std::size_t length) {
    std::uint32_t value = 0;
    for (std::size_t i = length; i-- > 0;)
        value = value << 8U |
                (at + i < bytes.size() ? std::to_integer<std::uint32_t>(bytes[at + i]) : std::uint32_t{0});
    return value;
}

// What the headers state; the rest is libgd's business.
struct BmpHeader {
    std::int64_t width = 0;
    std::int64_t height = 0;
    bool grey = false;  // a palette of greys alone
};

BmpHeader read_header(std::span<const std::byte> bytes) {
    constexpr std::size_t file_header = 14;
    constexpr std::uint32_t core_header = 12;  // of the oldest version
    const std::uint32_t length = number(bytes, file_header, 4);
    if (bytes.size() < file_header + core_header || bytes.size() < file_header + length)
        throw InputError("it is a damaged BMP (truncated header)");
    const bool core = length == core_header;
    BmpHeader header{.width = core ? number(bytes, 18, 2) : static_cast<std::int32_t>(number(bytes, 18, 4)),
                     .height = core ? number(bytes, 20, 2) : static_cast<std::int32_t>(number(bytes, 22, 4))};
    header.height = std::abs(header.height);  // negative: from the top
    require_allowed_size(header.width, header.height);
    const std::uint32_t bits = number(bytes, core ? 24 : 28, 2);
    if (bits > 8) return header;
    const std::uint32_t stated = core ? 0 : number(bytes, 46, 4);
    const std::size_t colours = stated == 0 || stated > 256 ? std::size_t{1} << bits : stated;
    const std::size_t size = core ? 3 : 4;
    header.grey = true;
    for (std::size_t c = 0; c < colours; ++c) {
        const std::size_t at = file_header + length + c * size;
        const std::uint32_t blue = number(bytes, at, 1);
        header.grey = header.grey && blue == number(bytes, at + 1, 1) && blue == number(bytes, at + 2, 1);
    }
    return header;
}

}  // namespace

ImageFacts bmp_facts(std::span<const std::byte> bytes) {
    const BmpHeader header = read_header(bytes);
    return {.format = ImageFormat::bmp,
            .width = header.width,
            .height = header.height,
            .channels = header.grey ? 1 : 3};
}

Image decode_bmp(std::span<const std::byte> bytes) {
    static std::once_flag quiet;
    std::call_once(quiet, [] { gdSetErrorMethod([](int, const char*, va_list) {}); });
    const BmpHeader header = read_header(bytes);
    // The library takes the bytes without changing them.
    const std::unique_ptr<gdImage, decltype(&gdImageDestroy)> bmp(
        gdImageCreateFromBmpPtr(static_cast<int>(bytes.size()), const_cast<std::byte*>(bytes.data())),
        gdImageDestroy);
    if (!bmp || gdImageSX(bmp.get()) != header.width || gdImageSY(bmp.get()) != header.height)
        throw InputError("it is a damaged BMP (truncated, or of an unknown kind)");
    Image image(header.width, header.height);
    for (int y = 0; y < gdImageSY(bmp.get()); ++y)
        for (int x = 0; x < gdImageSX(bmp.get()); ++x) {
            const int colour = gdImageGetTrueColorPixel(bmp.get(), x, y);
            std::uint8_t* const to = image.at(x, y);
            to[0] = static_cast<std::uint8_t>(gdTrueColorGetRed(colour));
            to[1] = static_cast<std::uint8_t>(gdTrueColorGetGreen(colour));
            to[2] = static_cast<std::uint8_t>(gdTrueColorGetBlue(colour));
        }
    return image;
}

}  // namespace jevrin::inline v1
