#include "jevrin/base/error.hpp"
#include "jevrin/images/decoders.hpp"

#include <fmt/format.h>
#include <png.h>

#include <algorithm>
#include <csetjmp>
#include <cstring>
#include <optional>
#include <string>

namespace jevrin::inline v1 {
namespace {

// libpng's simplified reader: it knows palettes, 16 bits, grey, transparency by colour, and interlacing.
class PngReader {
  public:
    explicit PngReader(std::span<const std::byte> bytes) {
        png_.version = PNG_IMAGE_VERSION;
        if (png_image_begin_read_from_memory(&png_, bytes.data(), bytes.size()) == 0) fail();
        require_allowed_size(png_.width, png_.height);
        // Without a stated gamma 16-bit values mean what 8-bit ones do.
        png_.flags |= PNG_IMAGE_FLAG_16BIT_sRGB;
    }
    const png_image& header() const { return png_; }

    void read(png_uint_32 format, std::uint8_t* pixels) {
        png_.format = format;
        if (png_image_finish_read(&png_, nullptr, pixels, 0, nullptr) == 0) fail();
    }

  private:
    [[noreturn]] void fail() const {
        throw InputError(fmt::format("it is a damaged PNG ({})", png_.message));
    }

    // Freed also when the constructor throws.
    struct Owned : png_image {
        Owned() : png_image{} {}
        ~Owned() { png_image_free(this); }
        Owned(const Owned&) = delete;
        Owned& operator=(const Owned&) = delete;
    };
    Owned png_;
};

// A chunk acTL before the first IDAT marks an animation.
bool is_animated(std::span<const std::byte> bytes) {
    constexpr std::size_t signature = 8;
    constexpr std::size_t frame = 12;  // length, type, checksum
    for (std::size_t at = signature; at + frame <= bytes.size();) {
        std::uint32_t length = 0;
        for (std::size_t i = 0; i < 4; ++i)
            length = length << 8 | std::to_integer<std::uint32_t>(bytes[at + i]);
        if (std::memcmp(bytes.data() + at + 4, "acTL", 4) == 0) return true;
        if (std::memcmp(bytes.data() + at + 4, "IDAT", 4) == 0) return false;
        at += frame + length;
    }
    return false;
}

}  // namespace

ImageFacts png_facts(std::span<const std::byte> bytes) {
    if (is_animated(bytes)) throw InputError("it is an animated PNG; save one frame as an image");
    const PngReader reader(bytes);
    const png_image& png = reader.header();
    return {.format = ImageFormat::png,
            .width = png.width,
            .height = png.height,
            .channels = ((png.format & PNG_FORMAT_FLAG_COLOR) != 0 ? 3 : 1) +
                        ((png.format & PNG_FORMAT_FLAG_ALPHA) != 0 ? 1 : 0)};
}

namespace {

// 16-bit grey as it is stored; the simplified reader would change its values by the gamma that a file states.
class WideGreyPng {
  public:
    explicit WideGreyPng(std::span<const std::byte> bytes) : bytes_(bytes) {
        png_ = png_create_read_struct(PNG_LIBPNG_VER_STRING, this, note_error, ignore);
        if (png_ != nullptr) info_ = png_create_info_struct(png_);
        if (info_ == nullptr) throw InputError("it is a damaged PNG (out of memory)");
    }
    ~WideGreyPng() { png_destroy_read_struct(&png_, &info_, nullptr); }
    WideGreyPng(const WideGreyPng&) = delete;
    WideGreyPng& operator=(const WideGreyPng&) = delete;

    // Nothing when it is another kind of PNG.
    std::optional<std::vector<std::uint16_t>> read() {
        std::vector<std::uint16_t> values;
        std::vector<png_bytep> rows;
        const bool wide = read_into(values, rows);
        if (!error_.empty()) throw InputError(fmt::format("it is a damaged PNG ({})", error_));
        return wide ? std::optional(std::move(values)) : std::nullopt;
    }

  private:
    // The library jumps back here when the file is damaged: nothing with a destructor is made inside.
    bool read_into(std::vector<std::uint16_t>& values, std::vector<png_bytep>& rows) {
        if (setjmp(png_jmpbuf(png_)) != 0) return false;
        png_set_read_fn(png_, this, take);
        png_read_info(png_, info_);
        if (png_get_bit_depth(png_, info_) != 16 || png_get_color_type(png_, info_) != PNG_COLOR_TYPE_GRAY)
            return false;
        png_set_swap(png_);
        png_set_interlace_handling(png_);
        png_read_update_info(png_, info_);
        const std::size_t width = png_get_image_width(png_, info_);
        const std::size_t height = png_get_image_height(png_, info_);
        values.resize(width * height);
        rows.resize(height);
        for (std::size_t y = 0; y < height; ++y)
            rows[y] = reinterpret_cast<png_bytep>(values.data() + y * width);
        png_read_image(png_, rows.data());
        return true;
    }
    static void take(png_structp png, png_bytep to, png_size_t length) {
        auto& reader = *static_cast<WideGreyPng*>(png_get_io_ptr(png));
        if (reader.bytes_.size() - reader.at_ < length) png_error(png, "truncated");
        std::memcpy(to, reader.bytes_.data() + reader.at_, length);
        reader.at_ += length;
    }
    static void note_error(png_structp png, png_const_charp text) {
        static_cast<WideGreyPng*>(png_get_error_ptr(png))->error_ = text;
        png_longjmp(png, 1);
    }
    static void ignore(png_structp, png_const_charp) {}

    std::span<const std::byte> bytes_;
    std::size_t at_ = 0;
    std::string error_;
    png_structp png_ = nullptr;
    png_infop info_ = nullptr;
};

}  // namespace

Image decode_opaque_png(std::span<const std::byte> bytes, const ValueRange& range) {
    PngReader reader(bytes);
    if (range != ValueRange{})
        if (const auto values = WideGreyPng(bytes).read()) {
            Image image(reader.header().width, reader.header().height);
            for (std::size_t p = 0; p < values->size(); ++p)
                std::fill_n(image.pixels.begin() + static_cast<std::ptrdiff_t>(3 * p), 3,
                            range.byte((*values)[p]));
            return image;
        }
    Image image(reader.header().width, reader.header().height);
    reader.read(PNG_FORMAT_RGB, image.pixels.data());
    return image;
}

TransparentImage decode_transparent_png(std::span<const std::byte> bytes) {
    PngReader reader(bytes);
    TransparentImage image{reader.header().width, reader.header().height, {}};
    image.pixels.resize(static_cast<std::size_t>(image.width * image.height * 4));
    reader.read(PNG_FORMAT_RGBA, image.pixels.data());
    return image;
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

}  // namespace jevrin::inline v1
