// Makes the demo's image sets: jevrin-demo-maker glaze|sample|surfaces FOLDER [SEED]
//   glaze     all tiles of the glaze set
//   sample    the sample of about 60 tiles that ships
//   surfaces  the source task of the backbone
#include "glaze.hpp"
#include "surfaces.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <charconv>
#include <string_view>

namespace {

std::uint64_t seed_from(std::string_view text) {
    std::uint64_t seed = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), seed);
    if (error != std::errc() || end != text.data() + text.size())
        throw jevrin::InputError(fmt::format("the seed '{}' is not a number", jevrin::printable(text)));
    return seed;
}

void make(std::string_view what, const std::filesystem::path& folder, std::uint64_t seed) {
    using namespace jevrin;
    if (what == "surfaces") return demo::write_surfaces(folder, seed);
    const auto tiles = demo::plan_tiles(seed);
    if (what == "glaze") return demo::write_tiles(folder, tiles, seed);
    if (what == "sample") return demo::write_tiles(folder, demo::sample_tiles(tiles), seed);
    throw InputError(fmt::format("'{}' is not one of glaze, sample, surfaces", printable(what)));
}

}  // namespace

int main(int argc, char** argv) {
    if (argc != 3 && argc != 4) {
        fmt::print(stderr, "usage: jevrin-demo-maker glaze|sample|surfaces FOLDER [SEED]\n");
        return 2;
    }
    try {
        make(argv[1], argv[2], argc == 4 ? seed_from(argv[3]) : jevrin::demo::default_seed);
        return 0;
    } catch (const jevrin::Error& error) {
        fmt::print(stderr, "{}\n", error.what());
        return 1;
    }
}
