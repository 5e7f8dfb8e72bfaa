#include "jevrin/plan/recipe.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/plan/shared_tables.hpp"

#include <fmt/format.h>

#include <limits>

namespace jevrin {
namespace {

ImagesPlan require_images(TomlReader& reader, const std::filesystem::path& file) {
    auto images = reader.table("images");
    if (!images) throw InputError(fmt::format("{}:1:1: it needs [images]", printable(file.string())));
    return read_images(*images, file);
}

}  // namespace

Recipe read_recipe(const std::filesystem::path& file) {
    const toml::table document = parse_toml(read_text(file), file);
    TomlReader reader(document, printable(file.string()), "the recipe");
    Recipe recipe;
    recipe.images = require_images(reader, file);
    Composition& composition = recipe.composition;
    if (auto table = reader.table("compose")) {
        composition.copies = table->integer("copies", composition.copies, 1, 10'000);
        composition.seed =
            static_cast<std::uint64_t>(table->integer("seed", static_cast<std::int64_t>(composition.seed), 0,
                                                      std::numeric_limits<std::int32_t>::max()));
        composition.originals = table->truth("originals", composition.originals);
        const std::string format = table->text("format", "png");
        composition.jpeg = table->at("format", [&] {
            if (format != "png" && format != "jpeg")
                throw InputError(fmt::format("format is '{}'; it may be png or jpeg", printable(format)));
            return format == "jpeg";
        });
        composition.augmentation = read_augmentation(*table, file, {});
        table->at("augment", [&] {
            if (composition.augmentation.mixing.form != MixingForm::none)
                throw InputError("mixing gives a picture two labels and cannot be written as a set");
        });
        table->finish();
    }
    composition.onto.resize(composition.augmentation.overlays.size());
    if (reader.has("overlay")) {
        for (TomlReader& overlay : reader.tables("overlay")) {
            composition.augmentation.overlays.push_back(read_overlay(overlay, file));
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
    const toml::table document = parse_toml(read_text(file), file);
    TomlReader reader(document, printable(file.string()), "it");
    return require_images(reader, file);
}

}  // namespace jevrin
