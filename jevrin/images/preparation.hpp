// Preparation: what happens to every picture before a network sees it, in training and in prediction alike.
#pragma once

#include "jevrin/images/image.hpp"

#include <array>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin {

// How a picture of any shape becomes a square: stretch changes the aspect ratio, crop cuts the longer side
// about its centre, pad repeats the edge of the shorter side.
enum class Fit { stretch, crop, pad };
std::string fit_name(Fit fit);
// InputError names the three words.
Fit fit_from_name(const std::string& name);

// (value / 255 - mean) / deviation for each of red, green, blue.
struct Scaling {
    std::array<double, 3> mean = {0.0, 0.0, 0.0};
    std::array<double, 3> deviation = {1.0, 1.0, 1.0};
};

struct Preparation {
    std::int64_t size = 64;  // pixels of both sides
    Fit fit = Fit::pad;
    Scaling scaling;

    // One line of JSON, as it is stored in models.
    std::string to_json() const;
    // InputError when the text is not what to_json() writes.
    static Preparation from_json(const std::string& text);
};

// The picture fitted to [size, size, 3], still as bytes.
Image fit_image(const Image& image, std::int64_t size, Fit fit);

// Mean and deviation of bytes over many fitted pictures; exact integer sums. A deviation below 1/255 counts
// as 1/255.
Scaling measure_scaling(std::span<const std::uint8_t* const> images, std::int64_t pixels);

// Bytes to numbers through a table of 256 values per colour.
class ScalingTable {
  public:
    explicit ScalingTable(const Scaling& scaling);
    void apply(const std::uint8_t* pixels, std::int64_t count, float* out) const;

  private:
    std::array<std::array<float, 256>, 3> table_;
};

}  // namespace jevrin
