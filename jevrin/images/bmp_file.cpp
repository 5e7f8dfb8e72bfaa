#include "jevrin/base/descriptor.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/images/decoders.hpp"

#include <fmt/format.h>
#include <sys/mman.h>
#include <turbojpeg.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <memory>

namespace jevrin::inline v1 {
namespace {

std::uint32_t number(std::span<const std::byte> bytes, std::size_t at, std::size_t length) {
    std::uint32_t value = 0;
    for (std::size_t i = length; i-- > 0;)
        value = value << 8U |
                (at + i < bytes.size() ? std::to_integer<std::uint32_t>(bytes[at + i]) : std::uint32_t{0});
    return value;
}

// What the headers state; the rest is the library's business.
struct BmpHeader {
    std::int64_t width = 0;
    std::int64_t height = 0;
    bool grey = false;  // a palette of greys alone
};

BmpHeader bmp_header(std::span<const std::byte> bytes) {
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
    const BmpHeader header = bmp_header(bytes);
    return {.format = ImageFormat::bmp,
            .width = header.width,
            .height = header.height,
            .channels = header.grey ? 1 : 3};
}

Image decode_bmp(std::span<const std::byte> bytes) {
    const BmpHeader header = bmp_header(bytes);
    // The library reads files, so that the bytes become one in memory.
    const Descriptor file(::memfd_create("image", MFD_CLOEXEC));
    if (!file.is_open() || ::write(file.get(), bytes.data(), bytes.size()) != std::ssize(bytes))
        throw WorkError("there is no memory to decode a BMP");
    int width = 0;
    int height = 0;
    int format = TJPF_RGB;
    const std::unique_ptr<unsigned char, decltype(&tjFree)> pixels(
        tjLoadImage(fmt::format("/proc/self/fd/{}", file.get()).c_str(), &width, 1, &height, &format, 0),
        tjFree);
    if (!pixels || width != header.width || height != header.height)
        throw InputError(fmt::format(
            "it is a damaged BMP, or one of a kind that is not supported ({}); save it with 8, 24 "
            "or 32 bits, not compressed",
            pixels ? "its size" : tjGetErrorStr()));
    Image image(width, height);
    std::copy_n(pixels.get(), image.pixels.size(), image.pixels.begin());
    return image;
}

}  // namespace jevrin::inline v1
