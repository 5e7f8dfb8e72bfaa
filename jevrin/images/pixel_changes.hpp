// The single transformations of augment(); only noise is random.
#pragma once

#include "jevrin/base/random.hpp"
#include "jevrin/images/augmentation.hpp"

namespace jevrin::inline v1 {

// What moves pixels, in this order: a crop resized to the whole, zoom and rotation about the centre, flips, a
// shift in whole pixels. Outside the image its edge is repeated.
struct Movement {
    bool mirrored = false;
    bool upside_down = false;
    std::int64_t dx = 0;
    std::int64_t dy = 0;
    double degrees = 0.0;
    double zoom = 1.0;  // above 1: larger
    // As fractions of the image.
    double crop_left = 0.0, crop_top = 0.0, crop_width = 1.0, crop_height = 1.0;
};
// Flips and shifts alone copy pixels; everything else interpolates linearly between the four nearest.
void move(const PixelGrid& grid, const Movement& movement);

struct Recolouring {
    double brightness = 0.0;
    double contrast = 0.0;
    double saturation = 0.0;
    double hue_degrees = 0.0;
};
// One affine map of colours, rounded once. Grey images change in brightness and contrast alone.
void recolour(const PixelGrid& grid, const Recolouring& colours);

// A Gaussian of this deviation in pixels, the edge repeated.
void blur(const PixelGrid& grid, double deviation);

// Nearly normal noise (sums of four uniform bytes) of this deviation, as a fraction of white.
void add_noise(const PixelGrid& grid, double deviation, RandomStream& stream);

// A rectangle of this fraction of the area takes the image's mean colour; x and y in [0, 1) choose its place.
void erase(const PixelGrid& grid, double area, double aspect, double x, double y);

// A cutout with its longer side `size` of the image's shorter one; centre as fractions of width and height.
void lay_over(const PixelGrid& grid, const Cutout& cutout, const std::array<double, 2>& centre, double size,
              double opacity);

}  // namespace jevrin::inline v1
