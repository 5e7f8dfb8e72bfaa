// Images in memory.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// Red, green, blue.
using Colour = std::array<std::uint8_t, 3>;
inline constexpr Colour white = {255, 255, 255};

// 8-bit RGB, [height, width, 3], rows from the top.
struct Image {
    std::int64_t width = 0;
    std::int64_t height = 0;
    std::vector<std::uint8_t> pixels;

    Image() = default;
    Image(std::int64_t width_, std::int64_t height_)
        : width(width_), height(height_), pixels(static_cast<std::size_t>(width_ * height_ * 3)) {}

    std::uint8_t* at(std::int64_t x, std::int64_t y) { return pixels.data() + (y * width + x) * 3; }
    const std::uint8_t* at(std::int64_t x, std::int64_t y) const {
        return pixels.data() + (y * width + x) * 3;
    }
};

// The bytes of a PNG file, without loss.
std::vector<std::byte> encode_png(const Image& image);
// quality in 1..100.
std::vector<std::byte> encode_jpeg(const Image& image, int quality);

// Size [width, height] changed by an antialiased separable filter: a triangle as wide as the pixels of the
// coarser of both grids. Sums of integers, all exact, so that the result is the same on every machine.
Image resize(const Image& image, std::int64_t width, std::int64_t height);

}  // namespace jevrin::inline v1
