#include "surfaces.hpp"

#include "surface.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/parallel.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::demo {
namespace {

// Two colours, a seed and a direction, drawn for every picture.
struct Material {
    std::uint32_t seed = 0;
    Colour base;
    Colour other;
    Direction along;
    float size = 1.0F;      // of features, in pixels
    float contrast = 1.0F;  // of marks against the base
    float relief = 1.0F;    // of marks, in pixels of height
};

Colour random_colour(RandomStream& random) {
    return {draw(random, 0.12, 0.92), draw(random, 0.12, 0.88), draw(random, 0.1, 0.86)};
}

using Painter = void (*)(Surface&, const Material&, RandomStream&);

void mark(Point& point, const Material& m, float strength, float height) {
    point.colour = mix(point.colour, m.other, strength * m.contrast);
    point.height += height * m.relief;
}

void paint_plain(Surface&, const Material&, RandomStream&) {}

void paint_fissures(Surface& surface, const Material& m, RandomStream& random) {
    const float cell = 2.2F * m.size;
    const float width = draw(random, 0.3, 1.3);
    surface.for_each([&](float x, float y, Point& p) {
        const float wx = x + 4.0F * noise(m.seed, x / 12.0F, y / 12.0F);
        const float wy = y + 4.0F * noise(m.seed + 1U, x / 12.0F, y / 12.0F);
        const CellDistance d = cell_distance(m.seed, wx / cell, wy / cell, 0.9F);
        const float line = 1.0F - smooth_step(0.4F * width, width, (d.second - d.nearest) * 0.5F * cell);
        mark(p, m, line, -0.5F * line);
    });
}

void paint_scratches(Surface& surface, const Material& m, RandomStream& random) {
    const auto count = 3 + random.below(12);
    for (std::uint32_t k = 0; k < count; ++k) {
        const Direction d = random_direction(random);
        const float offset = draw(random, -28.0, 28.0);
        const float middle = draw(random, -20.0, 20.0);
        const float length = draw(random, 8.0, 34.0);
        const float width = draw(random, 0.3, 0.9);
        surface.for_each([&](float x, float y, Point& p) {
            const float u = (x - 32.0F) * d.x + (y - 32.0F) * d.y - middle;
            const float v = (x - 32.0F) * -d.y + (y - 32.0F) * d.x - offset;
            if (std::abs(u) > length) return;
            const float line = 1.0F - smooth_step(0.5F * width, width, std::abs(v));
            mark(p, m, line, -0.5F * line);
        });
    }
}

// Round marks at random places; profile(distance in radii) gives (strength, height).
template <typename Profile>
void paint_spots(Surface& surface, const Material& m, RandomStream& random, std::uint32_t least,
                 std::uint32_t more, double smallest, double largest, Profile profile) {
    const auto count = least + random.below(more);
    for (std::uint32_t k = 0; k < count; ++k) {
        const float x = draw(random, 0.0, 64.0);
        const float y = draw(random, 0.0, 64.0);
        const float radius = draw(random, smallest, largest);
        surface.around(x, y, 1.8F * radius + 1.0F, [&](float dx, float dy, Point& p) {
            const auto [strength, height] = profile(std::sqrt(dx * dx + dy * dy) / radius, radius);
            mark(p, m, strength, height);
        });
    }
}

void paint_pits(Surface& surface, const Material& m, RandomStream& random) {
    paint_spots(surface, m, random, 5, 30, 0.8, 2.4, [](float d, float) {
        const float inside = 1.0F - smooth_step(0.6F, 1.0F, d);
        return std::pair(inside, -1.2F * inside);
    });
}

void paint_bubbles(Surface& surface, const Material& m, RandomStream& random) {
    paint_spots(surface, m, random, 4, 16, 1.4, 5.0, [](float d, float radius) {
        return std::pair(0.15F * (1.0F - smooth_step(0.7F, 1.0F, d)),
                         0.8F * radius * std::sqrt(std::max(0.0F, 1.0F - d * d)));
    });
}

void paint_craters(Surface& surface, const Material& m, RandomStream& random) {
    paint_spots(surface, m, random, 3, 12, 1.4, 4.5, [](float d, float) {
        const float lip = smooth_step(0.6F, 1.0F, d) * (1.0F - smooth_step(1.0F, 1.5F, d));
        const float inside = 1.0F - smooth_step(0.5F, 0.9F, d);
        return std::pair(0.8F * inside, 1.3F * lip - 0.8F * inside);
    });
}

void paint_speckle(Surface& surface, const Material& m, RandomStream& random) {
    const float level = draw(random, 0.3, 0.6);
    surface.for_each([&](float x, float y, Point& p) {
        const float spot = noise(m.seed, x * 0.6F, y * 0.6F);
        mark(p, m, smooth_step(level, level + 0.2F, spot), 0.0F);
    });
}

void paint_islands(Surface& surface, const Material& m, RandomStream& random) {
    const float level = draw(random, -0.1, 0.35);
    surface.for_each([&](float x, float y, Point& p) {
        const float field = layered_noise(m.seed, x / (2.0F * m.size), y / (2.0F * m.size), 2);
        const float bank = smooth_step(level - 0.3F, level - 0.05F, field) *
                           (1.0F - smooth_step(level - 0.05F, level, field));
        mark(p, m, smooth_step(level - 0.02F, level + 0.03F, field), 1.4F * bank);
    });
}

void paint_chips(Surface& surface, const Material& m, RandomStream& random) {
    const auto count = 2 + random.below(6);
    for (std::uint32_t k = 0; k < count; ++k) {
        const Direction d = random_direction(random);
        const float x0 = draw(random, 6.0, 58.0);
        const float y0 = draw(random, 6.0, 58.0);
        const float length = draw(random, 4.0, 15.0);
        const float width = draw(random, 2.0, 7.0);
        surface.for_each([&](float x, float y, Point& p) {
            const float u = (x - x0) * d.x + (y - y0) * d.y;
            const float v = (x - x0) * -d.y + (y - y0) * d.x;
            const float inside =
                width * (1.0F - std::abs(u) / length) - std::abs(v + 0.4F * u * (v > 0 ? 0.3F : -0.2F));
            const float bare = smooth_step(0.0F, 0.6F, inside);
            mark(p, m, bare, 0.7F * smooth_step(-2.0F, 0.0F, inside) * (1.0F - bare) - 1.1F * bare);
        });
    }
}

void paint_grain(Surface& surface, const Material& m, RandomStream& random) {
    const float stretch = draw(random, 6.0, 14.0);
    surface.for_each([&](float x, float y, Point& p) {
        const float u = (x * m.along.x + y * m.along.y) / (stretch * 2.0F);
        const float v = (x * -m.along.y + y * m.along.x) / (0.4F * m.size);
        const float grain = layered_noise(m.seed, u, v, 3);
        mark(p, m, smooth_step(-0.2F, 0.7F, grain), 0.3F * grain);
    });
}

void paint_weave(Surface& surface, const Material& m, RandomStream& random) {
    const float pitch = draw(random, 3.0, 7.0);
    surface.for_each([&](float x, float y, Point& p) {
        const float u = (x * m.along.x + y * m.along.y) / pitch;
        const float v = (x * -m.along.y + y * m.along.x) / pitch;
        const float fu = u - std::floor(u) - 0.5F;
        const float fv = v - std::floor(v) - 0.5F;
        const bool over = (static_cast<int>(std::floor(u)) + static_cast<int>(std::floor(v))) % 2 == 0;
        const float thread = over ? 0.25F - fu * fu : 0.25F - fv * fv;
        mark(p, m, over ? 0.7F : 0.1F, 5.0F * thread);
    });
}

void paint_ripples(Surface& surface, const Material& m, RandomStream& random) {
    const float pitch = draw(random, 4.0, 11.0);
    surface.for_each([&](float x, float y, Point& p) {
        const float bend = 5.0F * layered_noise(m.seed, x / 22.0F, y / 22.0F, 2);
        const float u = (x * m.along.x + y * m.along.y + bend) / pitch;
        const float t = std::abs(u - std::floor(u) - 0.5F) * 2.0F;
        mark(p, m, 0.6F * smooth_step(0.3F, 0.8F, t), 1.2F * smooth_step(0.0F, 1.0F, t));
    });
}

void paint_pebbles(Surface& surface, const Material& m, RandomStream&) {
    const float cell = 1.1F * m.size;
    surface.for_each([&](float x, float y, Point& p) {
        const CellDistance d = cell_distance(m.seed, x / cell, y / cell, 0.8F);
        const float dome = std::max(0.0F, 1.0F - 1.6F * d.nearest * d.nearest);
        mark(p, m, static_cast<float>(d.cell % 97U) / 97.0F, 0.35F * cell * dome);
    });
}

void paint_marble(Surface& surface, const Material& m, RandomStream&) {
    surface.for_each([&](float x, float y, Point& p) {
        const float bend = layered_noise(m.seed, x / (2.4F * m.size), y / (2.4F * m.size), 4);
        const float vein = 1.0F - smooth_step(0.0F, 0.16F, std::abs(bend));
        mark(p, m, 0.8F * vein, 0.0F);
    });
}

struct Kind {
    const char* name;
    Painter paint;
};
const Kind kinds[] = {
    {"bubbles", paint_bubbles},   {"chips", paint_chips},     {"craters", paint_craters},
    {"fissures", paint_fissures}, {"grain", paint_grain},     {"islands", paint_islands},
    {"marble", paint_marble},     {"pebbles", paint_pebbles}, {"pits", paint_pits},
    {"plain", paint_plain},       {"ripples", paint_ripples}, {"scratches", paint_scratches},
    {"speckle", paint_speckle},   {"weave", paint_weave},
};

}  // namespace

std::vector<std::string> surface_names() {
    std::vector<std::string> names;
    for (const Kind& kind : kinds) names.emplace_back(kind.name);
    return names;
}

Image draw_surface(std::size_t kind, std::uint64_t number, std::uint64_t seed) {
    RandomStream random({seed, Purpose::demo, 100 + static_cast<std::uint32_t>(kind), number});
    Surface surface(64, 64);
    Material m{
        .seed = random.bits(), .base = random_colour(random), .other = {}, .along = random_direction(random)};
    // Marks may be darker or lighter than what they lie on.
    m.other = random.uniform() < 0.65 ? scale(m.base, draw(random, 0.2, 0.6)) : random_colour(random);
    m.size = draw(random, 4.0, 11.0);
    m.contrast = draw(random, 0.4, 1.0);
    m.relief = draw(random, 0.5, 1.2);
    const Colour shade = scale(m.base, draw(random, 0.65, 1.0));
    const float pooling = draw(random, 10.0, 40.0);
    const float waviness = draw(random, 0.0, 0.9);
    const float gloss = draw(random, 0.0, 1.0);
    surface.for_each([&](float x, float y, Point& p) {
        p.colour = mix(m.base, shade,
                       smooth_step(-0.6F, 0.6F, layered_noise(m.seed + 31U, x / pooling, y / pooling, 3)));
        p.height = waviness * layered_noise(m.seed + 33U, x / 11.0F, y / 11.0F, 2);
        p.gloss = gloss;
    });
    kinds[kind].paint(surface, m, random);
    return surface.photograph(random);
}

void write_surfaces(const std::filesystem::path& folder, std::uint64_t seed, const ReadProgress& progress) {
    const std::vector<std::string> names = surface_names();
    for (std::size_t kind = 0; kind < names.size(); ++kind) {
        make_directory(folder / names[kind]);
        parallel_for(pictures_per_surface, [&](std::int64_t i) {
            const Image image = draw_surface(kind, static_cast<std::uint64_t>(i), seed);
            write_file(folder / names[kind] / fmt::format("{:04}.png", i + 1), encode_png(image));
        });
        if (progress) progress(static_cast<std::int64_t>(kind + 1), static_cast<std::int64_t>(names.size()));
    }
}

}  // namespace jevrin::demo
