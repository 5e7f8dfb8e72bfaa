// Makes the demo's image sets: see --help.
#include "glaze.hpp"
#include "surfaces.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"

#include <CLI/CLI.hpp>
#include <fmt/format.h>

int main(int argc, char** argv) {
    using namespace jevrin;
    CLI::App app(
        "Makes the image sets of the demo: the glaze tiles, and the surfaces on which its backbone is "
        "trained.");
    app.require_subcommand(1);
    std::filesystem::path folder;
    std::uint64_t seed = demo::default_seed;
    auto* glaze = app.add_subcommand("glaze", "all tiles of the glaze set");
    auto* sample = app.add_subcommand("sample", "the sample of about 60 tiles that ships");
    auto* surfaces = app.add_subcommand("surfaces", "the source task of the backbone");
    for (auto* command : {glaze, sample, surfaces}) {
        command->add_option("FOLDER", folder, "where to write")->required();
        command->add_option("--seed", seed, "another seed gives other pictures")->capture_default_str();
    }
    CLI11_PARSE(app, argc, argv);
    try {
        if (surfaces->parsed()) {
            demo::write_surfaces(folder, seed);
            return 0;
        }
        const auto tiles = demo::plan_tiles(seed);
        demo::write_tiles(folder, sample->parsed() ? demo::sample_tiles(tiles) : tiles, seed);
        return 0;
    } catch (const Error& error) {
        fmt::print(stderr, "{}\n", error.what());
        return 1;
    }
}
