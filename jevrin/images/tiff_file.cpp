#include "jevrin/base/error.hpp"
#include "jevrin/images/decoders.hpp"

#include <fmt/format.h>
#include <tiffio.h>

#include <algorithm>
#include <cstring>
#include <memory>

namespace jevrin::inline v1 {
namespace {

// libtiff, reading from memory; its messages stay in the reader.
class TiffReader {
  public:
    explicit TiffReader(std::span<const std::byte> bytes) : bytes_(bytes) {
        const std::unique_ptr<TIFFOpenOptions, decltype(&TIFFOpenOptionsFree)> options(TIFFOpenOptionsAlloc(),
                                                                                       TIFFOpenOptionsFree);
        TIFFOpenOptionsSetMaxSingleMemAlloc(options.get(), largest_image_file);
        TIFFOpenOptionsSetErrorHandlerExtR(options.get(), note_error, this);
        TIFFOpenOptionsSetWarningHandlerExtR(options.get(), ignore, nullptr);
        tiff_.reset(
            TIFFClientOpenExt("image", "r", this, read, write, seek, close, size, map, unmap, options.get()));
        if (!tiff_) fail();
        std::uint32_t width = 0;
        std::uint32_t height = 0;
        if (TIFFGetField(tiff_.get(), TIFFTAG_IMAGEWIDTH, &width) == 0 ||
            TIFFGetField(tiff_.get(), TIFFTAG_IMAGELENGTH, &height) == 0)
            throw InputError("it is a damaged TIFF (it states no size)");
        require_allowed_size(width, height);
        width_ = width;
        height_ = height;
        bits_ = number(TIFFTAG_BITSPERSAMPLE, 1);
        samples_ = number(TIFFTAG_SAMPLESPERPIXEL, 1);
        photometric_ = number(TIFFTAG_PHOTOMETRIC, PHOTOMETRIC_MINISBLACK);
        if (const int form = number(TIFFTAG_SAMPLEFORMAT, SAMPLEFORMAT_UINT);
            form != SAMPLEFORMAT_UINT && form != SAMPLEFORMAT_VOID)
            throw InputError("its values are floating-point or signed numbers; save it with 8 or 16 bits");
        if (bits_ != 1 && bits_ != 2 && bits_ != 4 && bits_ != 8 && bits_ != 16)
            throw InputError(fmt::format("its values have {} bits; save it with 8 or 16", bits_));
        if (const int pages = TIFFNumberOfDirectories(tiff_.get()); pages > 1)
            throw InputError(
                fmt::format("it has {} pages; save the one that is meant as an image of its own", pages));
        reset_directory();
    }

    std::int64_t width() const { return width_; }
    std::int64_t height() const { return height_; }
    bool is_grey() const {
        return photometric_ == PHOTOMETRIC_MINISBLACK || photometric_ == PHOTOMETRIC_MINISWHITE;
    }
    bool is_wide_grey() const { return is_grey() && bits_ == 16 && samples_ == 1; }
    bool has_alpha() const {
        std::uint16_t count = 0;
        std::uint16_t* kinds = nullptr;
        return TIFFGetField(tiff_.get(), TIFFTAG_EXTRASAMPLES, &count, &kinds) != 0 && count > 0 &&
               kinds[0] != EXTRASAMPLE_UNSPECIFIED;
    }

    // Upright, colours multiplied by alpha: [height, width] of red, green, blue, alpha from the lowest byte.
    std::vector<std::uint32_t> rgba() {
        std::vector<std::uint32_t> raster(static_cast<std::size_t>(width_ * height_));
        if (TIFFReadRGBAImageOriented(tiff_.get(), static_cast<std::uint32_t>(width_),
                                      static_cast<std::uint32_t>(height_), raster.data(), ORIENTATION_TOPLEFT,
                                      1) == 0)
            fail();
        return raster;
    }

    // 16-bit grey as it is stored.
    std::vector<std::uint16_t> wide_grey() {
        std::vector<std::uint16_t> values(static_cast<std::size_t>(width_ * height_));
        if (TIFFIsTiled(tiff_.get()) != 0)
            read_tiles(values);
        else
            for (std::int64_t y = 0; y < height_; ++y)
                if (TIFFReadScanline(tiff_.get(), values.data() + y * width_, static_cast<std::uint32_t>(y),
                                     0) < 0)
                    fail();
        if (photometric_ == PHOTOMETRIC_MINISWHITE)
            for (std::uint16_t& value : values) value = static_cast<std::uint16_t>(65535 - value);
        return values;
    }

  private:
    void read_tiles(std::vector<std::uint16_t>& values) {
        const std::int64_t tile_width = number32(TIFFTAG_TILEWIDTH);
        const std::int64_t tile_height = number32(TIFFTAG_TILELENGTH);
        const tmsize_t bytes = TIFFTileSize(tiff_.get());
        if (tile_width < 1 || tile_height < 1 || bytes < tile_width * tile_height * 2 ||
            bytes > largest_image_file)
            throw InputError("it is a damaged TIFF (the size of its tiles)");
        std::vector<std::uint16_t> tile(static_cast<std::size_t>(bytes) / 2);
        for (std::int64_t top = 0; top < height_; top += tile_height)
            for (std::int64_t left = 0; left < width_; left += tile_width) {
                if (TIFFReadTile(tiff_.get(), tile.data(), static_cast<std::uint32_t>(left),
                                 static_cast<std::uint32_t>(top), 0, 0) < 0)
                    fail();
                const std::int64_t columns = std::min(tile_width, width_ - left);
                for (std::int64_t y = top; y < std::min(top + tile_height, height_); ++y)
                    std::copy_n(tile.data() + (y - top) * tile_width, columns,
                                values.data() + y * width_ + left);
            }
    }

    int number(std::uint32_t tag, int otherwise) const {
        std::uint16_t value = 0;
        return TIFFGetFieldDefaulted(tiff_.get(), tag, &value) != 0 ? value : otherwise;
    }
    std::int64_t number32(std::uint32_t tag) const {
        std::uint32_t value = 0;
        return TIFFGetField(tiff_.get(), tag, &value) != 0 ? value : 0;
    }
    void reset_directory() {
        if (TIFFSetDirectory(tiff_.get(), 0) == 0) fail();
    }
    [[noreturn]] void fail() const {
        throw InputError(fmt::format("it is a damaged TIFF ({})", error_.empty() ? "truncated" : error_));
    }

    static int note_error(TIFF*, void* self, const char* module, const char* format, va_list arguments) {
        char text[200];
        std::vsnprintf(text, sizeof text, format, arguments);
        auto& error = static_cast<TiffReader*>(self)->error_;
        if (error.empty()) error = text;
        static_cast<void>(module);
        return 1;
    }
    static int ignore(TIFF*, void*, const char*, const char*, va_list) { return 1; }
    static TiffReader& self(thandle_t handle) { return *static_cast<TiffReader*>(handle); }
    static tmsize_t read(thandle_t handle, void* to, tmsize_t length) {
        TiffReader& reader = self(handle);
        const auto left = static_cast<tmsize_t>(reader.bytes_.size()) -
                          std::min<tmsize_t>(reader.at_, static_cast<tmsize_t>(reader.bytes_.size()));
        const tmsize_t count = std::clamp<tmsize_t>(length, 0, left);
        std::memcpy(to, reader.bytes_.data() + reader.at_, static_cast<std::size_t>(count));
        reader.at_ += count;
        return count;
    }
    static tmsize_t write(thandle_t, void*, tmsize_t) { return 0; }
    static toff_t seek(thandle_t handle, toff_t offset, int from) {
        TiffReader& reader = self(handle);
        const auto end = static_cast<toff_t>(reader.bytes_.size());
        const toff_t base = from == SEEK_SET ? 0 : from == SEEK_CUR ? static_cast<toff_t>(reader.at_) : end;
        reader.at_ = static_cast<tmsize_t>(std::min(base + offset, end));
        return static_cast<toff_t>(reader.at_);
    }
    static int close(thandle_t) { return 0; }
    // The bytes are in memory already. The library never writes to what it opened for reading.
    static int map(thandle_t handle, void** base, toff_t* length) {
        *base = const_cast<std::byte*>(self(handle).bytes_.data());
        *length = self(handle).bytes_.size();
        return 1;
    }
    static void unmap(thandle_t, void*, toff_t) {}
    static toff_t size(thandle_t handle) { return self(handle).bytes_.size(); }

    struct Close {
        void operator()(TIFF* tiff) const { TIFFClose(tiff); }
    };
    std::span<const std::byte> bytes_;
    tmsize_t at_ = 0;
    std::string error_;
    std::unique_ptr<TIFF, Close> tiff_;
    std::int64_t width_ = 0;
    std::int64_t height_ = 0;
    int bits_ = 8;
    int samples_ = 1;
    int photometric_ = 0;
};

}  // namespace

ImageFacts tiff_facts(std::span<const std::byte> bytes) {
    const TiffReader reader(bytes);
    return {.format = ImageFormat::tiff,
            .width = reader.width(),
            .height = reader.height(),
            .channels = (reader.is_grey() ? 1 : 3) + (reader.has_alpha() ? 1 : 0)};
}

Image decode_opaque_tiff(std::span<const std::byte> bytes, const ValueRange& range) {
    TiffReader reader(bytes);
    Image image(reader.width(), reader.height());
    if (reader.is_wide_grey()) {
        const std::vector<std::uint16_t> values = reader.wide_grey();
        for (std::size_t p = 0; p < values.size(); ++p)
            std::fill_n(image.pixels.begin() + static_cast<std::ptrdiff_t>(3 * p), 3, range.byte(values[p]));
        return image;
    }
    const std::vector<std::uint32_t> raster = reader.rgba();
    for (std::size_t p = 0; p < raster.size(); ++p)
        for (std::size_t c = 0; c < 3; ++c)
            image.pixels[3 * p + c] = static_cast<std::uint8_t>(raster[p] >> (8 * c) & 255U);
    return image;
}

TransparentImage decode_transparent_tiff(std::span<const std::byte> bytes) {
    TiffReader reader(bytes);
    const std::vector<std::uint32_t> raster = reader.rgba();
    TransparentImage image{reader.width(), reader.height(), {}};
    image.pixels.resize(raster.size() * 4);
    for (std::size_t p = 0; p < raster.size(); ++p) {
        const std::uint32_t alpha = raster[p] >> 24U;
        for (std::size_t c = 0; c < 3; ++c) {
            const std::uint32_t multiplied = raster[p] >> (8 * c) & 255U;
            const std::uint32_t colour =
                alpha == 0 ? 0 : std::min(255U, (multiplied * 255U + alpha / 2) / alpha);
            image.pixels[4 * p + c] = static_cast<std::uint8_t>(colour);
        }
        image.pixels[4 * p + 3] = static_cast<std::uint8_t>(alpha);
    }
    return image;
}

}  // namespace jevrin::inline v1
