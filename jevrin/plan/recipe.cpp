#include "jevrin/plan/recipe.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/descriptions.hpp"
#include "jevrin/plan/descriptions.hpp"
#include "jevrin/plan/toml.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

ImagesPlan require_images(TableReader& reader) {
    auto images = reader.table("images");
    if (!images)
        throw InputError(fmt::format("{}:1:1: it needs [images]", printable(reader.file().string())));
    return read_images(*images);
}

}  // namespace

Recipe read_recipe(const std::filesystem::path& file) {
    const SettingNode document = parse_toml(read_text(file, largest_text_read), file);
    TableReader reader(document, file, "the recipe");
    Recipe recipe;
    recipe.images = require_images(reader);
    Composition& composition = recipe.composition;
    if (auto table = reader.table("compose")) composition = read_settings(*table, composition);
    composition.onto.resize(composition.augmentation.overlays.size());
    if (reader.has("overlay")) {
        for (TableReader& overlay : reader.tables("overlay")) {
            composition.augmentation.overlays.emplace_back();
            description_of(Overlay{}).read_into(overlay, composition.augmentation.overlays.back());
            composition.augmentation.overlays.back().label = overlay.text("label", "");
            composition.onto.push_back(overlay.texts("onto"));
            overlay.finish();
        }
    } else {
        reader.mention("overlay");
    }
    reader.finish();
    return recipe;
}

ImagesPlan read_images_of(const std::filesystem::path& file) {
    const SettingNode document = parse_toml(read_text(file, largest_text_read), file);
    TableReader reader(document, file, "it");
    return require_images(reader);
}

}  // namespace jevrin::inline v1
