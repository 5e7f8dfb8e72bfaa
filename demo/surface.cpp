#include "surface.hpp"

#include <algorithm>
#include <cmath>

namespace jevrin::demo {
namespace {

// Mixes a lattice point and a seed into 32 bits (a finalizer of multiply and shift rounds).
std::uint32_t lattice_bits(std::uint32_t seed, std::int32_t x, std::int32_t y) {
    std::uint32_t h = seed * 0x9E3779B1U ^ static_cast<std::uint32_t>(x) * 0x85EBCA77U ^
                      static_cast<std::uint32_t>(y) * 0xC2B2AE3DU;
    h = (h ^ (h >> 15)) * 0x2C1B3C6DU;
    h = (h ^ (h >> 12)) * 0x297A2D39U;
    return h ^ (h >> 15);
}

float lattice_value(std::uint32_t seed, std::int32_t x, std::int32_t y) {
    return static_cast<float>(lattice_bits(seed, x, y) >> 8) * (2.0F / 16777216.0F) - 1.0F;
}

std::int32_t floor_to_int(float v) {
    const auto whole = static_cast<std::int32_t>(v);
    return static_cast<float>(whole) > v ? whole - 1 : whole;
}

}  // namespace

Colour mix(const Colour& a, const Colour& b, float share) {
    return {a.r + (b.r - a.r) * share, a.g + (b.g - a.g) * share, a.b + (b.b - a.b) * share};
}

Colour scale(const Colour& c, float f) {
    return {c.r * f, c.g * f, c.b * f};
}

float smooth_step(float low, float high, float value) {
    const float t = std::clamp((value - low) / (high - low), 0.0F, 1.0F);
    return t * t * (3.0F - 2.0F * t);
}

float noise(std::uint32_t seed, float x, float y) {
    // Slopes at the lattice points point in sixteen directions, so that no axis shows.
    static constexpr float slopes[16][2] = {
        {1.0F, 0.0F},  {0.92F, 0.38F},   {0.71F, 0.71F},   {0.38F, 0.92F},
        {0.0F, 1.0F},  {-0.38F, 0.92F},  {-0.71F, 0.71F},  {-0.92F, 0.38F},
        {-1.0F, 0.0F}, {-0.92F, -0.38F}, {-0.71F, -0.71F}, {-0.38F, -0.92F},
        {0.0F, -1.0F}, {0.38F, -0.92F},  {0.71F, -0.71F},  {0.92F, -0.38F}};
    const std::int32_t x0 = floor_to_int(x);
    const std::int32_t y0 = floor_to_int(y);
    const float fx = x - static_cast<float>(x0);
    const float fy = y - static_cast<float>(y0);
    const auto rise = [&](std::int32_t dx, std::int32_t dy) {
        const float* slope = slopes[lattice_bits(seed, x0 + dx, y0 + dy) >> 28];
        return slope[0] * (fx - static_cast<float>(dx)) + slope[1] * (fy - static_cast<float>(dy));
    };
    const auto fade = [](float t) { return t * t * t * (t * (t * 6.0F - 15.0F) + 10.0F); };
    const float tx = fade(fx);
    const float top = rise(0, 0) * (1.0F - tx) + rise(1, 0) * tx;
    const float bottom = rise(0, 1) * (1.0F - tx) + rise(1, 1) * tx;
    const float ty = fade(fy);
    return 1.5F * (top * (1.0F - ty) + bottom * ty);
}

float layered_noise(std::uint32_t seed, float x, float y, int octaves) {
    float sum = 0.0F;
    float strength = 0.6F;
    for (int i = 0; i < octaves; ++i) {
        sum += strength * noise(seed + static_cast<std::uint32_t>(i) * 101U, x, y);
        strength *= 0.5F;
        x = x * 2.0F + 17.3F;
        y = y * 2.0F + 9.1F;
    }
    return sum;
}

CellDistance cell_distance(std::uint32_t seed, float x, float y, float jitter) {
    const std::int32_t x0 = floor_to_int(x);
    const std::int32_t y0 = floor_to_int(y);
    float nearest = 1e9F;
    float second = 1e9F;
    std::uint32_t cell = 0;
    for (std::int32_t dy = -2; dy <= 2; ++dy)
        for (std::int32_t dx = -2; dx <= 2; ++dx) {
            const float px =
                static_cast<float>(x0 + dx) + 0.5F + 0.5F * jitter * lattice_value(seed, x0 + dx, y0 + dy);
            const float py = static_cast<float>(y0 + dy) + 0.5F +
                             0.5F * jitter * lattice_value(seed + 77U, x0 + dx, y0 + dy);
            const float d = (px - x) * (px - x) + (py - y) * (py - y);
            if (d < nearest) {
                second = nearest;
                nearest = d;
                cell = lattice_bits(seed + 5U, x0 + dx, y0 + dy);
            } else if (d < second) {
                second = d;
            }
        }
    return {std::sqrt(nearest), std::sqrt(second), cell};
}

Direction random_direction(RandomStream& random) {
    for (;;) {
        const float x = draw(random, -1.0, 1.0);
        const float y = draw(random, -1.0, 1.0);
        const float length = std::sqrt(x * x + y * y);
        if (length > 0.1F && length <= 1.0F) return {x / length, y / length};
    }
}

Surface::Surface(std::int64_t width, std::int64_t height)
    : width_(width),
      height_(height),
      fine_width_(2 * width),
      fine_height_(2 * height),
      points_(static_cast<std::size_t>(fine_width_ * fine_height_)) {}

void Surface::for_each(const std::function<void(float, float, Point&)>& change) {
    for (std::int64_t j = 0; j < fine_height_; ++j)
        for (std::int64_t i = 0; i < fine_width_; ++i)
            change((static_cast<float>(i) + 0.5F) * 0.5F, (static_cast<float>(j) + 0.5F) * 0.5F, at(i, j));
}

void Surface::around(float x, float y, float reach, const std::function<void(float, float, Point&)>& change) {
    const auto clip = [](float v, std::int64_t limit) {
        return std::clamp<std::int64_t>(static_cast<std::int64_t>(v * 2.0F), 0, limit - 1);
    };
    for (std::int64_t j = clip(y - reach, fine_height_); j <= clip(y + reach, fine_height_); ++j)
        for (std::int64_t i = clip(x - reach, fine_width_); i <= clip(x + reach, fine_width_); ++i) {
            const float dx = (static_cast<float>(i) + 0.5F) * 0.5F - x;
            const float dy = (static_cast<float>(j) + 0.5F) * 0.5F - y;
            if (dx * dx + dy * dy <= reach * reach) change(dx, dy, at(i, j));
        }
}

Image Surface::photograph(RandomStream& random) const {
    const Direction side = random_direction(random);
    const float lift = draw(random, 0.9, 1.8);  // of the light above the surface
    const float length = std::sqrt(1.0F + lift * lift);
    const float light[3] = {side.x / length, side.y / length, lift / length};
    // Half way between the light and the camera, which looks straight down.
    const float half_length =
        std::sqrt(light[0] * light[0] + light[1] * light[1] + (light[2] + 1) * (light[2] + 1));
    const float half[3] = {light[0] / half_length, light[1] / half_length, (light[2] + 1) / half_length};
    const float exposure = draw(random, 0.8, 1.15);
    const Colour balance{draw(random, 0.93, 1.07), 1.0F, draw(random, 0.9, 1.1)};
    const Direction falloff = random_direction(random);
    const float falloff_strength = draw(random, 0.0, 0.25);
    // A lamp reflects where the curved tile happens to face it.
    const float lamp_x = draw(random, -0.3, 1.3) * static_cast<float>(width_);
    const float lamp_y = draw(random, -0.3, 1.3) * static_cast<float>(height_);
    const float lamp_size = draw(random, 0.2, 0.5) * static_cast<float>(width_);
    const float lamp_strength = draw(random, 0.0, 0.35);

    Image fine(fine_width_, fine_height_);
    for (std::int64_t j = 0; j < fine_height_; ++j)
        for (std::int64_t i = 0; i < fine_width_; ++i) {
            const Point& point = at(i, j);
            const float left = at(std::max<std::int64_t>(i - 1, 0), j).height;
            const float right = at(std::min(i + 1, fine_width_ - 1), j).height;
            const float above = at(i, std::max<std::int64_t>(j - 1, 0)).height;
            const float below = at(i, std::min(j + 1, fine_height_ - 1)).height;
            const float slope_x = left - right;
            const float slope_y = above - below;
            const float normal_length = std::sqrt(slope_x * slope_x + slope_y * slope_y + 1.0F);
            const auto facing = [&](const float* d) {
                return std::max(0.0F, (slope_x * d[0] + slope_y * d[1] + d[2]) / normal_length);
            };
            float shine = facing(half);
            for (int k = 0; k < 5; ++k) shine *= shine;
            const float x = static_cast<float>(i) * 0.5F;
            const float y = static_cast<float>(j) * 0.5F;
            const float lx = (x - lamp_x + slope_x * 8.0F) / lamp_size;
            const float ly = (y - lamp_y + slope_y * 8.0F) / lamp_size;
            const float lamp = lamp_strength / (1.0F + lx * lx + ly * ly) / (1.0F + lx * lx + ly * ly);
            const float across = (x / static_cast<float>(width_) - 0.5F) * falloff.x +
                                 (y / static_cast<float>(height_) - 0.5F) * falloff.y;
            const float diffuse =
                (0.35F + 0.75F * facing(light)) * exposure * (1.0F + across * falloff_strength);
            const float white = point.gloss * (0.35F * shine + lamp) * exposure;
            const float grain = draw(random, -1.0, 1.0) + draw(random, -1.0, 1.0);
            const float channels[3] = {point.colour.r * balance.r, point.colour.g * balance.g,
                                       point.colour.b * balance.b};
            for (int c = 0; c < 3; ++c) {
                const float value = channels[c] * diffuse + white + grain * 0.018F;
                fine.at(i, j)[c] = static_cast<std::uint8_t>(std::clamp(value, 0.0F, 1.0F) * 255.0F + 0.5F);
            }
        }
    return resize(fine, width_, height_);
}

}  // namespace jevrin::demo
