#include "output.hpp"

#include "jevrin/plan/recipe.hpp"
#include "jevrin/results/written_results.hpp"

namespace jevrin::app {
namespace {

struct ComposeOptions {
    std::filesystem::path recipe;
    std::filesystem::path directory;
    bool json = false;
};

CompositionResult compose_set(const ComposeOptions& options) {
    const Recipe recipe = read_recipe(options.recipe);
    ProgressBars bar;
    const ImageSet set = read_image_set(recipe.images.source, bar.of("reading images"));
    return {.directory = options.directory,
            .summary = compose(set, recipe.composition, options.directory, bar.of("writing images"))};
}

}  // namespace

void add_compose(Command& command) {
    auto options = std::make_shared<ComposeOptions>();
    command.add_option("RECIPE", options->recipe, "a TOML file with [images], [compose] and [[overlay]]")
        .required();
    command.add_option("DIR", options->directory, "a new directory for the set").required();
    add_json_option(command, options->json);
    command.callback([options] { present(compose_set(*options), {.json = options->json}); });
}

}  // namespace jevrin::app
