#include "jevrin/base/error.hpp"
#include "jevrin/images/decoders.hpp"

#include <fmt/format.h>
#include <turbojpeg.h>

#include <algorithm>
#include <cstring>
#include <memory>
#include <string_view>
#include <utility>

namespace jevrin::inline v1 {
namespace {

const unsigned char* as_chars(std::span<const std::byte> bytes) {
    return reinterpret_cast<const unsigned char*>(bytes.data());
}

struct DestroyTurbo {
    void operator()(void* handle) const { tjDestroy(handle); }
};
using Turbo = std::unique_ptr<void, DestroyTurbo>;

// Reads numbers of a TIFF structure in its own byte order; zero outside the bytes.
class TiffBytes {
  public:
    explicit TiffBytes(std::span<const std::byte> bytes)
        : bytes_(bytes), big_(!bytes.empty() && bytes[0] == std::byte{'M'}) {}
    std::size_t number(std::size_t at, std::size_t length) const {
        std::size_t value = 0;
        for (std::size_t i = 0; i < length; ++i) {
            const std::size_t place = at + (big_ ? i : length - 1 - i);
            value = value << 8 | (place < bytes_.size() ? std::to_integer<std::size_t>(bytes_[place]) : 0);
        }
        return value;
    }
    std::size_t size() const { return bytes_.size(); }

  private:
    std::span<const std::byte> bytes_;
    bool big_;
};

// EXIF tag 0x0112 of the first directory: 1 to 8, 1 when it says nothing sensible.
int orientation_in(std::span<const std::byte> tiff) {
    const TiffBytes bytes(tiff);
    const std::size_t directory = bytes.number(4, 4);
    if (directory + 2 > bytes.size()) return 1;
    const std::size_t entries = bytes.number(directory, 2);
    for (std::size_t e = 0; e < entries; ++e) {
        const std::size_t at = directory + 2 + e * 12;
        if (at + 12 > bytes.size()) break;
        if (bytes.number(at, 2) != 0x0112) continue;
        const std::size_t value = bytes.number(at + 8, 2);
        return value >= 1 && value <= 8 ? static_cast<int>(value) : 1;
    }
    return 1;
}

struct JpegNotes {
    int orientation = 1;
    bool inverted_inks = false;  // Adobe writes CMYK as 255 minus ink
};

// The application segments before the image (ITU-T T.81, annex B).
JpegNotes read_notes(std::span<const std::byte> bytes) {
    JpegNotes notes;
    const auto begins = [](std::span<const std::byte> segment, std::string_view mark) {
        return segment.size() >= mark.size() && std::memcmp(segment.data(), mark.data(), mark.size()) == 0;
    };
    for (std::size_t at = 2; at + 4 <= bytes.size() && bytes[at] == std::byte{0xFF};) {
        const auto marker = std::to_integer<unsigned>(bytes[at + 1]);
        if (marker == 0xFF) {  // padding before a marker
            ++at;
            continue;
        }
        if (marker == 0xDA || marker == 0xD9) break;
        const std::size_t length =
            std::to_integer<std::size_t>(bytes[at + 2]) << 8 | std::to_integer<std::size_t>(bytes[at + 3]);
        if (length < 2 || at + 2 + length > bytes.size()) break;
        const auto segment = bytes.subspan(at + 4, length - 2);
        if (marker == 0xE1 && begins(segment, std::string_view("Exif\0\0", 6)))
            notes.orientation = orientation_in(segment.subspan(6));
        if (marker == 0xEE && begins(segment, "Adobe")) notes.inverted_inks = true;
        at += 2 + length;
    }
    return notes;
}

struct JpegHeader {
    int width = 0;
    int height = 0;
    int colours = 0;
    bool has_inks() const { return colours == TJCS_CMYK || colours == TJCS_YCCK; }
};

JpegHeader read_header(tjhandle turbo, std::span<const std::byte> bytes) {
    JpegHeader header;
    int subsampling = 0;
    if (tjDecompressHeader3(turbo, as_chars(bytes), bytes.size(), &header.width, &header.height, &subsampling,
                            &header.colours) != 0)
        throw InputError(fmt::format("it is a damaged JPEG ({})", tjGetErrorStr2(turbo)));
    if (header.width < 1 || header.height < 1) throw InputError("it is a damaged JPEG (truncated header)");
    require_allowed_size(header.width, header.height);
    return header;
}

Image without_inks(const std::vector<std::uint8_t>& inks, std::int64_t width, std::int64_t height,
                   bool inverted) {
    Image image(width, height);
    for (std::size_t p = 0; p < inks.size() / 4; ++p) {
        const auto light = [&](std::size_t c) {
            const int value = inks[p * 4 + c];
            return inverted ? value : 255 - value;
        };
        for (std::size_t c = 0; c < 3; ++c)
            image.pixels[p * 3 + c] = static_cast<std::uint8_t>((light(c) * light(3) + 127) / 255);
    }
    return image;
}

// Orientations of EXIF 2.3: 2 to 4 mirror and turn by 180 degrees, 5 to 8 exchange rows and columns as well.
Image upright(Image image, int orientation) {
    if (orientation == 1) return image;
    const bool transposed = orientation >= 5;
    const bool from_right = orientation == 2 || orientation == 3 || orientation == 7 || orientation == 8;
    const bool from_below = orientation == 3 || orientation == 4 || orientation == 6 || orientation == 7;
    Image result = transposed ? Image(image.height, image.width) : Image(image.width, image.height);
    for (std::int64_t y = 0; y < result.height; ++y)
        for (std::int64_t x = 0; x < result.width; ++x) {
            const std::int64_t column = transposed ? y : x;
            const std::int64_t row = transposed ? x : y;
            const std::uint8_t* from = image.at(from_right ? image.width - 1 - column : column,
                                                from_below ? image.height - 1 - row : row);
            std::copy_n(from, 3, result.at(x, y));
        }
    return result;
}

}  // namespace

ImageFacts jpeg_facts(std::span<const std::byte> bytes) {
    const Turbo turbo(tjInitDecompress());
    const JpegHeader header = read_header(turbo.get(), bytes);
    ImageFacts facts{.format = ImageFormat::jpeg, .width = header.width, .height = header.height};
    facts.channels = header.has_inks() ? 4 : header.colours == TJCS_GRAY ? 1 : 3;
    if (read_notes(bytes).orientation >= 5) std::swap(facts.width, facts.height);
    return facts;
}

Image decode_jpeg(std::span<const std::byte> bytes, int reduction) {
    const Turbo turbo(tjInitDecompress());
    const JpegHeader header = read_header(turbo.get(), bytes);
    const JpegNotes notes = read_notes(bytes);
    const int width = (header.width + reduction - 1) / reduction;
    const int height = (header.height + reduction - 1) / reduction;
    const auto decompress = [&](std::uint8_t* pixels, TJPF format) {
        // Warnings count as errors: they mean that part of the image is missing.
        if (tjDecompress2(turbo.get(), as_chars(bytes), bytes.size(), pixels, width, 0, height, format,
                          TJFLAG_ACCURATEDCT | TJFLAG_LIMITSCANS) != 0)
            throw InputError(fmt::format("it is a damaged JPEG ({})", tjGetErrorStr2(turbo.get())));
    };
    Image image;
    if (header.has_inks()) {
        std::vector<std::uint8_t> inks(static_cast<std::size_t>(width) * static_cast<std::size_t>(height) *
                                       4);
        decompress(inks.data(), TJPF_CMYK);
        image = without_inks(inks, width, height, notes.inverted_inks);
    } else {
        image = Image(width, height);
        decompress(image.pixels.data(), TJPF_RGB);
    }
    return upright(std::move(image), notes.orientation);
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

}  // namespace jevrin::inline v1
