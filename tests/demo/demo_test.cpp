#include "glaze.hpp"
#include "support/support.hpp"
#include "surfaces.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/images/image_set.hpp"

#include <map>

namespace jevrin::demo {
namespace {

TEST(GlazeTiles, TheSampleThatShipsIsWhatTheGeneratorMakes) {
    const std::filesystem::path shipped = std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "demo" / "sample";
    const std::vector<Tile> sample = sample_tiles(plan_tiles(default_seed));
    EXPECT_EQ(sample.size(), 60U);
    std::uintmax_t bytes = 0;
    for (const Tile& tile : sample) {
        EXPECT_EQ(read_file(shipped / tile.path), draw_tile(tile, default_seed)) << tile.path;
        bytes += std::filesystem::file_size(shipped / tile.path);
    }
    EXPECT_LT(bytes, 1'000'000U);
    EXPECT_EQ(read_image_set({.from = shipped}).items.size(), sample.size());
}

TEST(GlazeTiles, TheSetIsAsTheScenarioSays) {
    const std::vector<Tile> tiles = plan_tiles(default_seed);
    EXPECT_EQ(tiles.size(), 700U);
    std::map<Fault, int> shown;
    std::map<std::string, int> paths;
    int mislabelled = 0;
    for (const Tile& tile : tiles) {
        ++shown[tile.fault];
        ++paths[tile.path];
        mislabelled += tile.fault != tile.label;
        EXPECT_TRUE(tile.path.starts_with(fault_name(tile.label) + "/"));
    }
    EXPECT_EQ(paths.size(), tiles.size());
    EXPECT_EQ(shown.size(), 6U);
    EXPECT_LT(shown[Fault::shivering] * 3, shown[Fault::crazing]);
    EXPECT_GE(mislabelled, 5);
    EXPECT_LE(mislabelled, 40);
    const std::string csv = mislabelled_csv(tiles);
    EXPECT_EQ(std::count(csv.begin(), csv.end(), '\n'), mislabelled + 1);
}

TEST(GlazeTiles, ASeedDecidesEveryByte) {
    const std::vector<Tile> tiles = plan_tiles(5);
    EXPECT_EQ(draw_tile(tiles[3], 5), draw_tile(tiles[3], 5));
    EXPECT_NE(draw_tile(tiles[3], 5), draw_tile(tiles[3], 6));
    const Image image = decode_image(draw_tile(tiles[3], 5));
    EXPECT_GE(std::max(image.width, image.height), 64);
}

TEST(Surfaces, EveryKindDrawsVariedPictures) {
    for (std::size_t kind = 0; kind < surface_names().size(); ++kind) {
        const Image first = draw_surface(kind, 1, 3);
        EXPECT_EQ(first.pixels, draw_surface(kind, 1, 3).pixels);
        EXPECT_NE(first.pixels, draw_surface(kind, 2, 3).pixels);
    }
}

}  // namespace
}  // namespace jevrin::demo
