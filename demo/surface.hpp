// A made-up surface seen by a camera: height, colour and gloss per point, lit from one side and photographed.
//
// Only + - * / and square roots are used, and the demo is compiled without contraction, so that the same seed
// gives the same bytes on every machine.
#pragma once

#include "jevrin/base/random.hpp"
#include "jevrin/images/image.hpp"

#include <cstdint>
#include <functional>
#include <vector>

namespace jevrin::demo {

struct Colour {
    float r = 0.0F;
    float g = 0.0F;
    float b = 0.0F;
};
Colour mix(const Colour& a, const Colour& b, float share);
Colour scale(const Colour& colour, float factor);

// 0 below low, 1 above high, smooth between.
float smooth_step(float low, float high, float value);

// Smooth noise in about [-1, 1] with features of the size of one unit; layered adds octaves of half size and
// strength.
float noise(std::uint32_t seed, float x, float y);
float layered_noise(std::uint32_t seed, float x, float y, int octaves);

// Distances to the nearest and second nearest point of a jittered grid of unit cells, and a number for the
// nearest cell.
struct CellDistance {
    float nearest = 0.0F;
    float second = 0.0F;
    std::uint32_t cell = 0;
};
CellDistance cell_distance(std::uint32_t seed, float x, float y, float jitter);

// A direction drawn uniformly, of length 1.
struct Direction {
    float x = 1.0F;
    float y = 0.0F;
};
Direction random_direction(RandomStream& random);

struct Point {
    float height = 0.0F;  // in pixels, towards the camera
    Colour colour;
    float gloss = 0.5F;  // 0 matt to 1 glassy
};

// Points at twice the resolution of the photograph, which antialiases it. Coordinates are pixels of the
// photograph.
class Surface {
  public:
    Surface(std::int64_t width, std::int64_t height);

    std::int64_t width() const { return width_; }
    std::int64_t height() const { return height_; }

    // Changes every point: change(x, y, point).
    void for_each(const std::function<void(float, float, Point&)>& change);
    // Changes the points within a distance of a place: change(dx, dy, point).
    void around(float x, float y, float reach, const std::function<void(float, float, Point&)>& change);

    // Light from a drawn side, a highlight, uneven exposure, sensor noise and white balance, all drawn.
    Image photograph(RandomStream& random) const;

  private:
    Point& at(std::int64_t i, std::int64_t j) {
        return points_[static_cast<std::size_t>(j * fine_width_ + i)];
    }
    const Point& at(std::int64_t i, std::int64_t j) const {
        return points_[static_cast<std::size_t>(j * fine_width_ + i)];
    }

    std::int64_t width_;
    std::int64_t height_;
    std::int64_t fine_width_;
    std::int64_t fine_height_;
    std::vector<Point> points_;
};

inline float draw(RandomStream& random, double low, double high) {
    return static_cast<float>(random.uniform(low, high));
}

}  // namespace jevrin::demo
