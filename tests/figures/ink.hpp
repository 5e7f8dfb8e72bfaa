// What was drawn in a file of a figure.
#pragma once

#include "jevrin/images/image_set.hpp"

#include <filesystem>

namespace jevrin::test {

// How many pixels of an image are not white.
inline std::int64_t inked(const std::filesystem::path& file) {
    const Image image = load_image(file);
    std::int64_t count = 0;
    for (std::size_t i = 0; i < image.pixels.size(); i += 3) count += image.pixels[i] < 250;
    return count;
}

}  // namespace jevrin::test
