#include "glaze.hpp"

#include "surface.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/parallel.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::demo {
namespace {

const Colour glazes[] = {
    {0.55F, 0.66F, 0.58F},  // celadon
    {0.87F, 0.84F, 0.76F},  // cream
    {0.42F, 0.24F, 0.15F},  // iron brown
    {0.20F, 0.30F, 0.52F},  // cobalt
    {0.72F, 0.52F, 0.27F},  // honey
    {0.30F, 0.55F, 0.56F},  // copper turquoise
    {0.55F, 0.20F, 0.16F},  // iron red
    {0.62F, 0.62F, 0.66F},  // grey
};
const Colour clays[] = {{0.80F, 0.67F, 0.53F}, {0.70F, 0.43F, 0.31F}, {0.72F, 0.69F, 0.64F}};

// What all tiles share, drawn once per tile.
struct Glaze {
    std::uint32_t seed = 0;
    Colour colour;
    Colour shade;
    Colour clay;
};

Glaze choose_glaze(RandomStream& random) {
    Glaze glaze;
    glaze.seed = random.bits();
    const Colour& base = glazes[random.below(std::size(glazes))];
    const float light = draw(random, 0.82, 1.12);
    glaze.colour = {base.r * light * draw(random, 0.93, 1.07), base.g * light * draw(random, 0.93, 1.07),
                    base.b * light * draw(random, 0.93, 1.07)};
    glaze.shade = scale(glaze.colour, draw(random, 0.66, 0.9));
    glaze.clay = scale(clays[random.below(std::size(clays))], draw(random, 0.85, 1.1));
    return glaze;
}

void expose_clay(Point& point, const Glaze& glaze, float x, float y, float share, float depth) {
    const float grit = 1.0F + 0.22F * layered_noise(glaze.seed + 41U, x * 0.7F, y * 0.7F, 2);
    point.colour = mix(point.colour, scale(glaze.clay, grit), share);
    point.gloss *= 1.0F - share;
    point.height -= depth * share + 0.25F * share * noise(glaze.seed + 43U, x * 0.9F, y * 0.9F);
}

void lay_glaze(Surface& surface, const Glaze& glaze, RandomStream& random) {
    const float pooling = draw(random, 14.0, 34.0);
    const float waviness = draw(random, 0.1, 0.6);
    const float speckle = draw(random, 0.0, 1.0) < 0.45F ? draw(random, 0.15, 0.5) : 0.0F;
    const float gloss = draw(random, 0.25, 1.0);
    surface.for_each([&](float x, float y, Point& point) {
        const float thickness = layered_noise(glaze.seed, x / pooling, y / pooling, 3);
        point.colour = mix(glaze.shade, glaze.colour, smooth_step(-0.7F, 0.6F, thickness));
        const float spots = noise(glaze.seed + 3U, x * 0.55F, y * 0.55F);
        if (speckle > 0)
            point.colour =
                mix(point.colour, scale(glaze.shade, 0.6F), speckle * smooth_step(0.5F, 0.8F, spots));
        point.height = waviness * layered_noise(glaze.seed + 7U, x / 11.0F, y / 11.0F, 2);
        point.gloss = gloss;
    });
}

// Some pictures reach beyond the rim of the tile: a rounded, unglazed edge, then the dark table.
struct Rim {
    bool visible = false;
    Direction outwards;
    float position = 0.0F;  // of the edge along the direction, from the middle
};

float beyond_rim(const Rim& rim, const Surface& surface, float x, float y) {
    const float cx = x - 0.5F * static_cast<float>(surface.width());
    const float cy = y - 0.5F * static_cast<float>(surface.height());
    return cx * rim.outwards.x + cy * rim.outwards.y - rim.position;
}

Rim choose_rim(const Surface& surface, double probability, RandomStream& random) {
    Rim rim;
    rim.visible = random.uniform() < probability;
    rim.outwards = random_direction(random);
    rim.position = draw(random, 0.26, 0.46) * static_cast<float>(surface.width());
    return rim;
}

void cut_rim(Surface& surface, const Glaze& glaze, const Rim& rim) {
    if (!rim.visible) return;
    surface.for_each([&](float x, float y, Point& point) {
        const float d = beyond_rim(rim, surface, x, y) + 0.8F * noise(glaze.seed + 19U, x / 6.0F, y / 6.0F);
        expose_clay(point, glaze, x, y, smooth_step(-0.6F, 0.6F, d), 0.6F);
        if (d > 0) point.height -= 0.10F * d * d;
        const float table = smooth_step(4.2F, 5.2F, d);
        point.colour = mix(point.colour, {0.12F, 0.11F, 0.11F}, table);
    });
}

void add_crazing(Surface& surface, const Glaze& glaze, RandomStream& random) {
    const float cell = draw(random, 9.0, 22.0);
    const float width = draw(random, 0.35, 0.8);
    const float stain = draw(random, 0.45, 0.9);
    const float warp = draw(random, 2.0, 6.0);
    const Colour dark = mix(scale(glaze.shade, 0.35F), {0.20F, 0.13F, 0.08F}, draw(random, 0.2, 0.8));
    const std::uint32_t seed = glaze.seed + 101U;
    const float patchiness = draw(random, -0.9, 0.1);
    surface.for_each([&](float x, float y, Point& point) {
        const float wx = x + warp * noise(seed, x / 13.0F, y / 13.0F);
        const float wy = y + warp * noise(seed + 1U, x / 13.0F, y / 13.0F);
        const CellDistance coarse = cell_distance(seed, wx / cell, wy / cell, 0.95F);
        const CellDistance fine = cell_distance(seed + 9U, wx / cell * 1.9F, wy / cell * 1.9F, 0.95F);
        float line = 1.0F - smooth_step(0.4F * width, width, (coarse.second - coarse.nearest) * cell * 0.5F);
        // Finer cracks fill only some of the cells.
        if (coarse.cell % 3U == 0U)
            line = std::max(line, 0.7F * (1.0F - smooth_step(0.3F * width, 0.8F * width,
                                                             (fine.second - fine.nearest) * cell * 0.26F)));
        line *= smooth_step(patchiness - 0.2F, patchiness + 0.1F, noise(seed + 3U, x / 24.0F, y / 24.0F));
        point.colour = mix(point.colour, dark, line * stain);
        point.height -= 0.35F * line;
    });
}

void add_crawling(Surface& surface, const Glaze& glaze, RandomStream& random) {
    const float island = draw(random, 9.0, 20.0);
    const float level = draw(random, 0.05, 0.38);
    const float bulge = draw(random, 0.9, 2.2);
    const std::uint32_t seed = glaze.seed + 201U;
    surface.for_each([&](float x, float y, Point& point) {
        const float field = layered_noise(seed, x / island, y / island, 2);
        // The glaze draws back into a thick, rounded roll around the bare patch.
        const float roll = smooth_step(level - 0.30F, level - 0.10F, field) *
                           (1.0F - smooth_step(level - 0.08F, level + 0.02F, field));
        point.height += bulge * roll;
        point.colour = mix(point.colour, scale(glaze.shade, 0.85F), 0.5F * roll);
        expose_clay(point, glaze, x, y, smooth_step(level - 0.02F, level + 0.03F, field), 0.8F);
    });
}

// A small dark pit with a thin light lip: what both a pinhole and a small burst blister look like.
void add_pit(Surface& surface, const Glaze& glaze, float x, float y, float radius, float lip) {
    surface.around(x, y, radius + 2.5F, [&](float dx, float dy, Point& point) {
        const float d = std::sqrt(dx * dx + dy * dy) / radius;
        const float inside = 1.0F - smooth_step(0.55F, 1.0F, d);
        const float edge = smooth_step(0.7F, 1.0F, d) * (1.0F - smooth_step(1.05F, 1.6F, d));
        point.colour =
            mix(point.colour, mix(scale(glaze.shade, 0.3F), scale(glaze.clay, 0.45F), 0.4F), 0.9F * inside);
        point.height += lip * edge - 1.1F * inside;
        point.gloss *= 1.0F - 0.8F * inside;
    });
}

void add_pinholes(Surface& surface, const Glaze& glaze, RandomStream& random) {
    const auto count = 5 + random.below(22);
    const float size = draw(random, 0.8, 1.25);
    for (std::uint32_t k = 0; k < count; ++k) {
        const float x = draw(random, 0.04, 0.96) * static_cast<float>(surface.width());
        const float y = draw(random, 0.04, 0.96) * static_cast<float>(surface.height());
        const float radius = size * draw(random, 0.75, 1.5);
        add_pit(surface, glaze, x, y, radius, draw(random, 0.0, 0.35));
    }
}

void add_blisters(Surface& surface, const Glaze& glaze, RandomStream& random) {
    const auto count = 4 + random.below(13);
    // Most tiles have some domes; on tiles with small blisters nearly all of them have burst.
    const float size = draw(random, 1.0, 3.6);
    const float burst_share = size < 1.9F ? 0.85F : 0.45F;
    for (std::uint32_t k = 0; k < count; ++k) {
        const float x = draw(random, 0.06, 0.94) * static_cast<float>(surface.width());
        const float y = draw(random, 0.06, 0.94) * static_cast<float>(surface.height());
        const float radius = size * draw(random, 0.7, 1.35);
        const bool burst = random.uniform() < static_cast<double>(burst_share);
        if (burst && radius < 2.2F) {
            add_pit(surface, glaze, x, y, radius, draw(random, 0.2, 0.7));
            continue;
        }
        surface.around(x, y, radius + 2.0F, [&](float dx, float dy, Point& point) {
            const float d = std::sqrt(dx * dx + dy * dy) / radius;
            point.height += 0.75F * radius * std::sqrt(std::max(0.0F, 1.0F - d * d));
            point.colour =
                mix(point.colour, scale(glaze.colour, 1.12F), 0.6F * (1.0F - smooth_step(0.6F, 1.0F, d)));
            point.gloss = std::max(point.gloss, 0.8F * (1.0F - smooth_step(0.9F, 1.1F, d)));
        });
        if (burst) add_pit(surface, glaze, x + 0.2F * radius, y - 0.1F * radius, 0.5F * radius, 0.3F);
    }
}

void add_shivering(Surface& surface, const Glaze& glaze, const Rim& rim, RandomStream& random) {
    const auto count = 2 + random.below(4);
    for (std::uint32_t k = 0; k < count; ++k) {
        // Slivers peel off the edge when it is in the picture, otherwise off a ridge anywhere.
        const Direction across = rim.visible ? rim.outwards : random_direction(random);
        const Direction along{-across.y, across.x};
        const float middle = draw(random, -0.42, 0.42) * static_cast<float>(surface.width());
        const float offset = rim.visible ? rim.position - draw(random, 0.0, 5.0)
                                         : draw(random, -0.3, 0.3) * static_cast<float>(surface.width());
        const float length = draw(random, 6.0, 17.0);
        const float width = draw(random, 2.5, 6.5);
        const float skew = draw(random, -0.5, 0.5);
        const std::uint32_t seed = random.bits();
        surface.for_each([&](float x, float y, Point& point) {
            const float cx = x - 0.5F * static_cast<float>(surface.width());
            const float cy = y - 0.5F * static_cast<float>(surface.height());
            const float u = cx * along.x + cy * along.y - middle;
            const float v = cx * across.x + cy * across.y - offset + skew * u * 0.3F;
            // A pointed blade with broken, straight sides.
            const float jag = 0.9F * noise(seed, u / 2.6F, 0.0F);
            const float inside =
                std::min(width * (1.0F - std::abs(u) / length) - std::abs(v + jag), length - std::abs(u));
            const float bare = smooth_step(0.0F, 0.5F, inside);
            // The flake has left a step, and the glaze beside it has lifted.
            point.height += 0.9F * smooth_step(-2.6F, -0.2F, inside) * (1.0F - bare);
            expose_clay(point, glaze, x, y, bare, 1.3F);
        });
    }
}

}  // namespace

std::string fault_name(Fault fault) {
    static const char* const names[] = {"sound", "crazing", "crawling", "pinholes", "blisters", "shivering"};
    return names[static_cast<std::size_t>(fault)];
}

std::int64_t tile_count(Fault fault) {
    constexpr std::int64_t counts[] = {150, 130, 130, 125, 125, 40};
    return counts[static_cast<std::size_t>(fault)];
}

std::vector<Tile> plan_tiles(std::uint64_t seed) {
    constexpr double mislabelled_share = 0.025;
    std::vector<Tile> tiles;
    for (const Fault fault : all_faults)
        for (std::int64_t i = 0; i < tile_count(fault); ++i) {
            Tile tile{.fault = fault, .label = fault, .path = {}, .number = tiles.size()};
            RandomStream random({seed, Purpose::demo, 1, tile.number});
            if (random.uniform() < mislabelled_share) {
                const auto shift = 1 + random.below(static_cast<std::uint32_t>(all_faults.size()) - 1);
                tile.label = all_faults[(static_cast<std::size_t>(fault) + shift) % all_faults.size()];
            }
            tiles.push_back(tile);
        }
    // Numbers in file names follow no class, as from a camera.
    const std::vector<std::int64_t> order =
        random_order(static_cast<std::int64_t>(tiles.size()), seed, Purpose::demo, 2);
    for (std::size_t i = 0; i < tiles.size(); ++i) {
        RandomStream random({seed, Purpose::demo, 3, tiles[i].number});
        const bool png = random.uniform() < 0.4;
        tiles[i].path =
            fmt::format("{}/tile-{:04}.{}", fault_name(tiles[i].label), order[i] + 1, png ? "png" : "jpg");
    }
    return tiles;
}

std::vector<std::byte> draw_tile(const Tile& tile, std::uint64_t seed) {
    RandomStream random({seed, Purpose::demo, 4, tile.number});
    const auto side = 64 + static_cast<std::int64_t>(random.below(33));
    const auto other = side - static_cast<std::int64_t>(random.below(13));
    const bool tall = random.uniform() < 0.5;
    Surface surface(tall ? other : side, tall ? side : other);
    const Glaze glaze = choose_glaze(random);
    lay_glaze(surface, glaze, random);
    const Rim rim = choose_rim(surface, tile.fault == Fault::shivering ? 0.6 : 0.3, random);
    switch (tile.fault) {
        case Fault::sound:
            break;
        case Fault::crazing:
            add_crazing(surface, glaze, random);
            break;
        case Fault::crawling:
            add_crawling(surface, glaze, random);
            break;
        case Fault::pinholes:
            add_pinholes(surface, glaze, random);
            break;
        case Fault::blisters:
            add_blisters(surface, glaze, random);
            break;
        case Fault::shivering:
            add_shivering(surface, glaze, rim, random);
            break;
    }
    cut_rim(surface, glaze, rim);
    const Image image = surface.photograph(random);
    return tile.path.ends_with(".png") ? encode_png(image) : encode_jpeg(image, 90);
}

void write_tiles(const std::filesystem::path& folder, const std::vector<Tile>& tiles, std::uint64_t seed,
                 const ReadProgress& progress) {
    for (const Fault fault : all_faults) make_directory(folder / fault_name(fault));
    constexpr std::int64_t block = 20;
    const auto total = static_cast<std::int64_t>(tiles.size());
    for (std::int64_t begin = 0; begin < total; begin += block) {
        const std::int64_t end = std::min(total, begin + block);
        parallel_for(end - begin, [&](std::int64_t i) {
            const Tile& tile = tiles[static_cast<std::size_t>(begin + i)];
            write_file(folder / tile.path, draw_tile(tile, seed));
        });
        if (progress) progress(end, total);
    }
}

std::vector<Tile> sample_tiles(const std::vector<Tile>& tiles) {
    constexpr std::size_t per_class = 10;
    std::vector<Tile> sample;
    for (const Fault fault : all_faults) {
        std::vector<Tile> shown;
        for (const bool wrong : {true, false})
            for (const Tile& tile : tiles)
                if (tile.label == fault && (tile.fault != tile.label) == wrong &&
                    shown.size() < (wrong ? 1 : per_class))
                    shown.push_back(tile);
        sample.insert(sample.end(), shown.begin(), shown.end());
    }
    return sample;
}

std::string mislabelled_csv(const std::vector<Tile>& tiles) {
    std::string csv = "path,label,shows\n";
    for (const Tile& tile : tiles)
        if (tile.label != tile.fault)
            csv += fmt::format("{},{},{}\n", tile.path, fault_name(tile.label), fault_name(tile.fault));
    return csv;
}

}  // namespace jevrin::demo
