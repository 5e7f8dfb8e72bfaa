#include "support/encoded_images.hpp"

#include <avif/avif.h>
#include <gif_lib.h>
#include <tiffio.h>
#include <unistd.h>
#include <zip.h>
#include <zlib.h>

#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <stdexcept>

namespace jevrin::test {
namespace {

// Runs a writer of files and gives what it wrote.
template <typename Write>
std::string written(Write write) {
    std::string name = (std::filesystem::temp_directory_path() / "jevrin-encoded-XXXXXX").string();
    const int descriptor = ::mkstemp(name.data());
    ::close(descriptor);
    write(name.c_str());
    std::ifstream file(name, std::ios::binary);
    std::string bytes((std::istreambuf_iterator<char>(file)), std::istreambuf_iterator<char>());
    std::filesystem::remove(name);
    return bytes;
}

}  // namespace

std::string tiff_of(const TiffKind& kind, int width, int height, const std::vector<int>& values) {
    return written([&](const char* name) {
        TIFF* const tiff = TIFFOpen(name, "w");
        for (int page = 0; page < kind.pages; ++page) {
            TIFFSetField(tiff, TIFFTAG_IMAGEWIDTH, width);
            TIFFSetField(tiff, TIFFTAG_IMAGELENGTH, height);
            TIFFSetField(tiff, TIFFTAG_BITSPERSAMPLE, kind.floats ? 32 : kind.bits);
            TIFFSetField(tiff, TIFFTAG_SAMPLESPERPIXEL, kind.samples);
            TIFFSetField(tiff, TIFFTAG_PLANARCONFIG, PLANARCONFIG_CONTIG);
            TIFFSetField(tiff, TIFFTAG_COMPRESSION, kind.compression);
            TIFFSetField(tiff, TIFFTAG_ORIENTATION, kind.orientation);
            TIFFSetField(tiff, TIFFTAG_PHOTOMETRIC,
                         kind.samples >= 3
                             ? PHOTOMETRIC_RGB
                             : (kind.white_is_zero ? PHOTOMETRIC_MINISWHITE : PHOTOMETRIC_MINISBLACK));
            if (kind.floats) TIFFSetField(tiff, TIFFTAG_SAMPLEFORMAT, SAMPLEFORMAT_IEEEFP);
            const std::uint16_t alpha[] = {EXTRASAMPLE_UNASSALPHA};
            if (kind.samples == 4) TIFFSetField(tiff, TIFFTAG_EXTRASAMPLES, 1, alpha);
            const std::size_t bytes = kind.floats ? 4 : static_cast<std::size_t>(kind.bits / 8);
            const auto put = [&](std::vector<std::uint8_t>& to, std::size_t at, int value) {
                if (kind.bits == 8 && !kind.floats) to[at] = static_cast<std::uint8_t>(value);
                if (kind.bits == 16 && !kind.floats) {
                    const auto wide = static_cast<std::uint16_t>(value);
                    std::memcpy(to.data() + at * 2, &wide, 2);
                }
            };
            if (kind.tiled) {
                constexpr int side = 16;
                TIFFSetField(tiff, TIFFTAG_TILEWIDTH, side);
                TIFFSetField(tiff, TIFFTAG_TILELENGTH, side);
                for (int top = 0; top < height; top += side)
                    for (int left = 0; left < width; left += side) {
                        std::vector<std::uint8_t> tile(static_cast<std::size_t>(side * side * kind.samples) *
                                                       bytes);
                        for (int y = top; y < std::min(height, top + side); ++y)
                            for (int i = left * kind.samples; i < std::min(width, left + side) * kind.samples;
                                 ++i)
                                put(tile,
                                    static_cast<std::size_t>(((y - top) * side - left) * kind.samples + i),
                                    values[static_cast<std::size_t>(y * width * kind.samples + i)]);
                        TIFFWriteTile(tiff, tile.data(), static_cast<std::uint32_t>(left),
                                      static_cast<std::uint32_t>(top), 0, 0);
                    }
            } else {
                TIFFSetField(tiff, TIFFTAG_ROWSPERSTRIP, 3);
                for (int y = 0; y < height; ++y) {
                    std::vector<std::uint8_t> row(static_cast<std::size_t>(width * kind.samples) * bytes);
                    for (int i = 0; i < width * kind.samples; ++i)
                        put(row, static_cast<std::size_t>(i),
                            values[static_cast<std::size_t>(y * width * kind.samples + i)]);
                    TIFFWriteScanline(tiff, row.data(), static_cast<std::uint32_t>(y), 0);
                }
            }
            TIFFWriteDirectory(tiff);
        }
        TIFFClose(tiff);
    });
}

std::string gif_of(int width, int height, const std::vector<int>& indices, int transparent, bool interlaced,
                   int frames) {
    return written([&](const char* name) {
        int error = 0;
        GifFileType* const gif = EGifOpenFileName(name, false, &error);
        std::vector<GifColorType> greys(256);
        for (int i = 0; i < 256; ++i) {
            const auto grey = static_cast<GifByteType>(i);
            greys[static_cast<std::size_t>(i)] = {grey, grey, grey};
        }
        ColorMapObject* const palette = GifMakeMapObject(256, greys.data());
        EGifSetGifVersion(gif, true);
        EGifPutScreenDesc(gif, width, height, 8, 0, palette);
        for (int frame = 0; frame < frames; ++frame) {
            if (transparent >= 0) {
                const GraphicsControlBlock control{0, false, 0, transparent};
                GifByteType extension[4];
                EGifGCBToExtension(&control, extension);
                EGifPutExtension(gif, GRAPHICS_EXT_FUNC_CODE, 4, extension);
            }
            EGifPutImageDesc(gif, 0, 0, width, height, interlaced, nullptr);
            std::vector<int> rows;
            if (interlaced)
                for (const auto& [first, step] :
                     {std::pair(0, 8), std::pair(4, 8), std::pair(2, 4), std::pair(1, 2)})
                    for (int y = first; y < height; y += step) rows.push_back(y);
            else
                for (int y = 0; y < height; ++y) rows.push_back(y);
            for (const int y : rows) {
                std::vector<GifPixelType> line;
                for (int x = 0; x < width; ++x)
                    line.push_back(
                        static_cast<GifPixelType>(indices[static_cast<std::size_t>(y * width + x)]));
                EGifPutLine(gif, line.data(), width);
            }
        }
        GifFreeMapObject(palette);
        EGifCloseFile(gif, &error);
    });
}

std::string bmp_of(const Image& image, bool grey_palette) {
    const auto width = static_cast<std::uint32_t>(image.width);
    const auto height = static_cast<std::uint32_t>(image.height);
    const std::uint32_t bytes = grey_palette ? 1 : 3;
    const std::uint32_t row = (width * bytes + 3) / 4 * 4;
    const std::uint32_t offset = 54 + (grey_palette ? 1024 : 0);
    std::string text = "BM";
    const auto put = [&](std::uint32_t value, int length) {
        for (int i = 0; i < length; ++i) text += static_cast<char>(value >> (8 * i) & 255U);
    };
    for (const std::uint32_t value : {offset + row * height, 0U, offset, 40U, width, height}) put(value, 4);
    put(1, 2);
    put(8 * bytes, 2);
    for (const std::uint32_t value : {0U, row * height, 2835U, 2835U, grey_palette ? 256U : 0U, 0U})
        put(value, 4);
    for (std::uint32_t i = 0; i < 256 && grey_palette; ++i) put(i * 0x010101U, 4);
    for (std::int64_t y = image.height; y-- > 0;) {
        for (std::int64_t x = 0; x < image.width; ++x) {
            const std::uint8_t* const p = image.at(x, y);
            if (grey_palette)
                put(p[0], 1);
            else
                put(static_cast<std::uint32_t>(p[2] | p[1] << 8 | p[0] << 16), 3);
        }
        text.append(row - width * bytes, '\0');
    }
    return text;
}

std::string avif_of(const Image& image, int quarter_turns, int mirror) {
    avifImage* const made = avifImageCreate(static_cast<int>(image.width), static_cast<int>(image.height), 8,
                                            AVIF_PIXEL_FORMAT_YUV444);
    made->matrixCoefficients = AVIF_MATRIX_COEFFICIENTS_IDENTITY;
    if (quarter_turns > 0) {
        made->transformFlags |= AVIF_TRANSFORM_IROT;
        made->irot.angle = static_cast<std::uint8_t>(quarter_turns);
    }
    if (mirror >= 0) {
        made->transformFlags |= AVIF_TRANSFORM_IMIR;
        made->imir.mode = static_cast<std::uint8_t>(mirror);
    }
    avifRGBImage rgb;
    avifRGBImageSetDefaults(&rgb, made);
    rgb.format = AVIF_RGB_FORMAT_RGB;
    std::vector<std::uint8_t> pixels = image.pixels;
    rgb.pixels = pixels.data();
    rgb.rowBytes = static_cast<std::uint32_t>(image.width * 3);
    avifImageRGBToYUV(made, &rgb);
    avifEncoder* const encoder = avifEncoderCreate();
    encoder->minQuantizer = encoder->maxQuantizer = AVIF_QUANTIZER_LOSSLESS;
    encoder->speed = 10;
    avifRWData output = AVIF_DATA_EMPTY;
    if (avifEncoderWrite(encoder, made, &output) != AVIF_RESULT_OK)
        throw std::runtime_error("no AVIF was written");
    std::string text(reinterpret_cast<char*>(output.data), output.size);
    avifRWDataFree(&output);
    avifEncoderDestroy(encoder);
    avifImageDestroy(made);
    return text;
}

std::string idx_of(const std::vector<unsigned>& shape, const std::string& bytes) {
    std::string text("\0\0\x08", 3);
    text += static_cast<char>(shape.size());
    for (const unsigned length : shape)
        for (int shift = 24; shift >= 0; shift -= 8) text += static_cast<char>(length >> shift);
    return text + bytes;
}

std::string npy_of(const std::string& type, const std::string& shape, const std::string& data,
                   bool fortran_order) {
    std::string header = "{'descr': '" + type + "', 'fortran_order': " + (fortran_order ? "True" : "False") +
                         ", 'shape': " + shape + ", }";
    header.resize((header.size() + 11 + 63) / 64 * 64 - 11, ' ');
    header += '\n';
    std::string text("\x93NUMPY\x01\x00", 8);
    text += static_cast<char>(header.size());
    text += static_cast<char>(header.size() >> 8);
    return text + header + data;
}

std::string gzip_of(const std::string& bytes) {
    return written([&](const char* name) {
        const gzFile file = gzopen(name, "wb");
        gzwrite(file, bytes.data(), static_cast<unsigned>(bytes.size()));
        gzclose(file);
    });
}

std::string zip_of(const std::vector<std::pair<std::string, std::string>>& members) {
    return written([&](const char* name) {
        int error = 0;
        zip_t* const archive = zip_open(name, ZIP_CREATE | ZIP_TRUNCATE, &error);
        for (const auto& [member, bytes] : members)
            zip_file_add(archive, member.c_str(), zip_source_buffer(archive, bytes.data(), bytes.size(), 0),
                         ZIP_FL_OVERWRITE);
        zip_close(archive);
    });
}

}  // namespace jevrin::test
