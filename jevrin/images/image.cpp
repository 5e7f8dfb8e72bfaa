#include "jevrin/images/image.hpp"

#include "jevrin/base/error.hpp"

#include <fmt/format.h>
#include <png.h>
#include <turbojpeg.h>

#include <cstring>
#include <memory>

namespace jevrin {
namespace {

const unsigned char* as_chars(std::span<const std::byte> bytes) {
    return reinterpret_cast<const unsigned char*>(bytes.data());
}

Image allocate(std::int64_t width, std::int64_t height) {
    if (width < 1 || height < 1) throw InputError("it has no pixels");
    if (height > largest_image_pixels / width)
        throw InputError(fmt::format("it has {}x{} pixels; the limit is {} million", width, height,
                                     largest_image_pixels / 1'000'000));
    return {width, height};
}

Image decode_png(std::span<const std::byte> bytes) {
    png_image png{};
    png.version = PNG_IMAGE_VERSION;
    struct Free {
        png_image* image;
        ~Free() { png_image_free(image); }
    } const free_at_end{&png};
    if (png_image_begin_read_from_memory(&png, bytes.data(), bytes.size()) == 0)
        throw InputError(fmt::format("it is a damaged PNG ({})", png.message));
    png.format = PNG_FORMAT_RGB;
    Image image = allocate(png.width, png.height);
    const png_color white{255, 255, 255};
    if (png_image_finish_read(&png, &white, image.pixels.data(), 0, nullptr) == 0)
        throw InputError(fmt::format("it is a damaged PNG ({})", png.message));
    return image;
}

struct DestroyTurbo {
    void operator()(void* handle) const { tjDestroy(handle); }
};
using Turbo = std::unique_ptr<void, DestroyTurbo>;

Image decode_jpeg(std::span<const std::byte> bytes) {
    const Turbo turbo(tjInitDecompress());
    int width = 0;
    int height = 0;
    int subsampling = 0;
    int colours = 0;
    if (tjDecompressHeader3(turbo.get(), as_chars(bytes), bytes.size(), &width, &height, &subsampling,
                            &colours) != 0)
        throw InputError(fmt::format("it is a damaged JPEG ({})", tjGetErrorStr2(turbo.get())));
    if (width < 1 || height < 1) throw InputError("it is a damaged JPEG (its header is cut short)");
    if (colours == TJCS_CMYK || colours == TJCS_YCCK) throw InputError("it is a CMYK JPEG; save it as RGB");
    Image image = allocate(width, height);
    // Warnings count as errors: they mean that part of the picture is missing.
    if (tjDecompress2(turbo.get(), as_chars(bytes), bytes.size(), image.pixels.data(), width, 0, height,
                      TJPF_RGB, TJFLAG_ACCURATEDCT) != 0)
        throw InputError(fmt::format("it is a damaged JPEG ({})", tjGetErrorStr2(turbo.get())));
    return image;
}

}  // namespace

ImageFormat image_format(std::span<const std::byte> bytes) {
    const auto begins = [&](std::initializer_list<unsigned char> magic) {
        return bytes.size() >= magic.size() && std::memcmp(bytes.data(), magic.begin(), magic.size()) == 0;
    };
    if (begins({0x89, 'P', 'N', 'G', 0x0D, 0x0A, 0x1A, 0x0A})) return ImageFormat::png;
    if (begins({0xFF, 0xD8, 0xFF})) return ImageFormat::jpeg;
    return ImageFormat::unknown;
}

std::string format_name(ImageFormat format) {
    switch (format) {
        case ImageFormat::png:
            return "PNG";
        case ImageFormat::jpeg:
            return "JPEG";
        case ImageFormat::unknown:
            break;
    }
    return "unknown";
}

Image decode_image(std::span<const std::byte> bytes) {
    if (bytes.empty()) throw InputError("it is empty");
    switch (image_format(bytes)) {
        case ImageFormat::png:
            return decode_png(bytes);
        case ImageFormat::jpeg:
            return decode_jpeg(bytes);
        case ImageFormat::unknown:
            break;
    }
    throw InputError("it is neither PNG nor JPEG");
}

std::vector<std::byte> encode_png(const Image& image) {
    png_image png{};
    png.version = PNG_IMAGE_VERSION;
    png.width = static_cast<png_uint_32>(image.width);
    png.height = static_cast<png_uint_32>(image.height);
    png.format = PNG_FORMAT_RGB;
    png_alloc_size_t size = PNG_IMAGE_PNG_SIZE_MAX(png);
    std::vector<std::byte> bytes(size);
    if (png_image_write_to_memory(&png, bytes.data(), &size, 0, image.pixels.data(), 0, nullptr) == 0)
        throw WorkError(
            fmt::format("cannot encode a PNG of {}x{}: {}", image.width, image.height, png.message));
    bytes.resize(size);
    return bytes;
}

std::vector<std::byte> encode_jpeg(const Image& image, int quality) {
    const Turbo turbo(tjInitCompress());
    unsigned char* buffer = nullptr;
    unsigned long size = 0;
    const int failed = tjCompress2(turbo.get(), image.pixels.data(), static_cast<int>(image.width), 0,
                                   static_cast<int>(image.height), TJPF_RGB, &buffer, &size, TJSAMP_420,
                                   quality, TJFLAG_ACCURATEDCT);
    const std::unique_ptr<unsigned char, decltype(&tjFree)> owned(buffer, tjFree);
    if (failed != 0) throw WorkError(fmt::format("cannot encode a JPEG: {}", tjGetErrorStr2(turbo.get())));
    const auto* first = reinterpret_cast<const std::byte*>(buffer);
    return {first, first + size};
}

}  // namespace jevrin
