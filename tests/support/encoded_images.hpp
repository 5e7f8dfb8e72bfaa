// Image files of the kinds that the library only reads, and compressed arrays, written by the libraries
// themselves.
#pragma once

#include "jevrin/images/image.hpp"

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::test {

struct TiffKind {
    int bits = 8;         // 8 or 16
    int samples = 3;      // 1, 3, or 4 with alpha
    int compression = 1;  // as the format numbers them: 1 none, 5 LZW, 8 deflate
    bool tiled = false;
    bool white_is_zero = false;
    bool floats = false;
    int orientation = 1;
    int pages = 1;
};
// values [height, width, samples], whatever their bits.
std::string tiff_of(const TiffKind& kind, int width, int height, const std::vector<int>& values);

// A palette of 256 greys; transparent is an index, or -1; frames all alike.
std::string gif_of(int width, int height, const std::vector<int>& indices, int transparent = -1,
                   bool interlaced = false, int frames = 1);

// 24 bits a pixel, or a palette of greys.
std::string bmp_of(const Image& image, bool grey_palette = false);

// Without loss; quarter turns against the clock that a reader has to make, and a mirror then (0: top and
// bottom exchanged, 1: left and right).
std::string avif_of(const Image& image, int quarter_turns = 0, int mirror = -1);

// Arrays: big-endian shape and bytes; a header with the type as the format names it ("|u1") and the shape as
// text ("(2, 3)").
std::string idx_of(const std::vector<unsigned>& shape, const std::string& bytes);
std::string npy_of(const std::string& type, const std::string& shape, const std::string& data,
                   bool fortran_order = false);

std::string gzip_of(const std::string& bytes);
// Members by name, deflated.
std::string zip_of(const std::vector<std::pair<std::string, std::string>>& members);

}  // namespace jevrin::test
