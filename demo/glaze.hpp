// The demo's image set: test tiles of a small pottery, sorted by glaze fault.
#pragma once

#include "jevrin/images/image_set.hpp"

#include <array>
#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::demo {

// The seed of the set that ships and of the plan.
inline constexpr std::uint64_t default_seed = 11;

enum class Fault { sound, crazing, crawling, pinholes, blisters, shivering };
inline constexpr std::array<Fault, 6> all_faults = {Fault::sound,    Fault::crazing,  Fault::crawling,
                                                    Fault::pinholes, Fault::blisters, Fault::shivering};
std::string fault_name(Fault fault);

// How many tiles of each fault the set has: shivering is rare.
std::int64_t tile_count(Fault fault);

// One tile of the set, before it is drawn.
struct Tile {
    Fault fault = Fault::sound;  // what the picture shows
    Fault label = Fault::sound;  // the folder it lies in: another one for a mislabelled tile
    std::string path;            // "pinholes/tile-0123.png"
    std::uint64_t number = 0;
};

// All tiles of the set for a seed, in order of their number.
std::vector<Tile> plan_tiles(std::uint64_t seed);

// The bytes of a tile's file, PNG or JPEG by its name.
std::vector<std::byte> draw_tile(const Tile& tile, std::uint64_t seed);

// Writes these tiles below a folder.
void write_tiles(const std::filesystem::path& folder, const std::vector<Tile>& tiles, std::uint64_t seed,
                 const ReadProgress& progress = {});

// A fraction of the tiles that shows every class: ten of each, the first mislabelled ones among them.
std::vector<Tile> sample_tiles(const std::vector<Tile>& tiles);

// "path,label,shows" for each mislabelled tile.
std::string mislabelled_csv(const std::vector<Tile>& tiles);

}  // namespace jevrin::demo
