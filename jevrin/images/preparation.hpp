// Preparation: what happens to every image before a network sees it, in training and in prediction alike.
//
//     std::vector<std::uint8_t> pixels = fit_image(read_file("tile.jpg"), {.size = 64, .fit = Fit::crop});
//     ScalingTable(scaling, 3).apply(pixels, numbers);
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/image_size.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/images/image.hpp"

#include <array>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// How an image of any shape gets the wanted one: stretch changes the aspect ratio, crop cuts what is too long
// about its centre, pad fills up what is too short.
enum class Fit { stretch, crop, pad };
const EnumNames<Fit>& names_of(Fit);

// What pad fills up with: the repeated edge, a constant colour, or the mean colour of the image.
enum class FitPadding { edge, constant, mean };
const EnumNames<FitPadding>& names_of(FitPadding);

// How an image becomes [height, width, channels] bytes.
struct Fitting {
    ImageSize size = 64;
    Fit fit = Fit::pad;
    FitPadding padding = FitPadding::edge;
    Colour padding_colour = {0, 0, 0};  // of FitPadding::constant
    Colour background = white;          // under transparent parts
    ValueRange value_range = {};        // of 16-bit grey
    int channels = 3;                   // 3 colour, 1 grey: 0.299 red + 0.587 green + 0.114 blue (BT.601)

    std::int64_t values() const { return size.pixels() * channels; }
    // Names everything that can change a byte of the result.
    std::string key() const;
};

// The bytes [height, width, channels] of an image in memory.
std::vector<std::uint8_t> fit_image(const Image& image, const Fitting& fitting);
// The same of an image file's bytes. A JPEG much larger than the result is decoded at 1/2, 1/4 or 1/8, with
// sides of at least 1.5, 2 or 3 times the result's; this differs from decoding it whole by about one level in
// the mean. InputError as decode_image().
std::vector<std::uint8_t> fit_image(std::span<const std::byte> file, const Fitting& fitting);

// (value / 255 - mean) / deviation for each of red, green, blue; grey uses the first.
struct Scaling {
    std::array<double, 3> mean = {0.0, 0.0, 0.0};
    std::array<double, 3> deviation = {1.0, 1.0, 1.0};
};

struct Preparation {
    Fitting fitting;
    Scaling scaling;

    // One line of JSON, as it is stored in models.
    std::string to_json() const;
    // InputError when the text is not what to_json() writes.
    static Preparation from_json(const std::string& text);
};

// Mean and deviation of bytes over many fitted images; exact integer sums, so that their order does not
// matter.
class ScalingSums {
  public:
    explicit ScalingSums(int channels) : channels_(channels) {}
    // pixels [count, channels].
    void add(std::span<const std::uint8_t> pixels);
    void add(const ScalingSums& other);
    // A deviation below 1/255 counts as 1/255.
    Scaling scaling() const;

  private:
    int channels_;
    std::uint64_t pixels_ = 0;
    std::array<std::uint64_t, 3> sums_{};
    std::array<std::uint64_t, 3> squares_{};
};

// Bytes to numbers through a table of 256 values per channel.
class ScalingTable {
  public:
    ScalingTable(const Scaling& scaling, int channels);
    // As many values as there are pixels; [.., channels] both.
    void apply(std::span<const std::uint8_t> pixels, std::span<float> out) const;

  private:
    int channels_;
    std::array<std::array<float, 256>, 3> table_;
};

}  // namespace jevrin::inline v1
