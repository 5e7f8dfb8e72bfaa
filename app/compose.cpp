#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/plan/recipe.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

void compose_set(const std::filesystem::path& file, const std::filesystem::path& directory, bool json) {
    const Recipe recipe = read_recipe(file);
    CompositionSummary summary;
    {
        ProgressBars bar;
        const auto show = [&](const char* what) {
            return [&bar, what](std::int64_t done, std::int64_t total) { bar.show(what, done, total); };
        };
        const ImageSet set = read_image_set(recipe.images.source, show("reading images"));
        summary = compose(set, recipe.composition, directory, show("writing images"));
    }
    if (json) {
        print_json({{"directory", directory.string()},
                    {"index", (directory / "index.csv").string()},
                    {"written", summary.written},
                    {"relabelled", summary.relabelled}});
        return;
    }
    print(
        fmt::format("{} written to {}, {} of them under another label than what they were made from\n"
                    "its index keeps the copies of one picture together: from = \"{}\"\n",
                    plural(summary.written, "image"), printable(directory.string()), summary.relabelled,
                    printable((directory / "index.csv").string())));
}

}  // namespace

void add_compose(Command& command) {
    struct Options {
        std::filesystem::path recipe;
        std::filesystem::path directory;
        bool json = false;
    };
    auto options = std::make_shared<Options>();
    command.add_option("RECIPE", options->recipe, "a TOML file with [images], [compose] and [[overlay]]")
        .required();
    command.add_option("DIR", options->directory, "a new directory for the set").required();
    command.add_flag("--json", options->json, "print one JSON document");
    command.callback([options] { compose_set(options->recipe, options->directory, options->json); });
}

}  // namespace jevrin::app
