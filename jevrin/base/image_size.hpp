// Height and width of an image in pixels; one number is a square.
#pragma once

#include <cstdint>
#include <string>

namespace jevrin::inline v1 {

struct ImageSize {
    std::int64_t height = 64;
    std::int64_t width = 64;

    ImageSize() = default;
    ImageSize(std::int64_t side) : height(side), width(side) {}
    ImageSize(std::int64_t stated_height, std::int64_t stated_width)
        : height(stated_height), width(stated_width) {}

    bool is_square() const { return height == width; }
    std::int64_t pixels() const { return height * width; }
    // "64x48", height first, as plans state it.
    std::string text() const { return std::to_string(height) + "x" + std::to_string(width); }
    bool operator==(const ImageSize&) const = default;
};

}  // namespace jevrin::inline v1
