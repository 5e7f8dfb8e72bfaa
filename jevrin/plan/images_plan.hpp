// The [images] and augment tables of plans and recipes.
#pragma once

#include "jevrin/images/augmentation.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/images/preparation.hpp"
#include "jevrin/plan/toml_reader.hpp"

#include <nlohmann/json_fwd.hpp>

#include <filesystem>
#include <optional>

namespace jevrin {

// How bytes become numbers: by the mean and deviation of the training part, to 0 to 1, or by stated numbers.
enum class ScalingKind { training, unit, stated };

struct ImagesPlan {
    ImageSource source;  // paths are absolute
    // Not stated: as the source gives them, otherwise the default shares.
    std::optional<PartsSettings> parts;
    std::uint64_t division_seed = 1;  // which items go to which part
    bool near_duplicates_together = true;
    // Its channels are those of the backbone, or of the images, unless stated.
    Fitting fitting;
    std::optional<int> channels;
    // Not stated: a pretrained backbone keeps its own, everything else takes that of the training part.
    std::optional<ScalingKind> scaling;
    Scaling stated_scaling;
};

// InputError with the place for whatever is wrong. file is the plan's: relative paths begin beside it.
ImagesPlan read_images(TomlReader reader, const std::filesystem::path& file);
nlohmann::ordered_json to_json(const ImagesPlan& images);

// A path of a plan: relative ones begin beside the plan's file.
std::filesystem::path beside(const std::filesystem::path& plan, const std::string& path);

// The key `augment`: the name of a strength, or a table that may begin from one. What it does not state stays
// as it is in `otherwise`. Overlays are loaded.
Augmentation read_augmentation(TomlReader& reader, const std::filesystem::path& file,
                               const Augmentation& otherwise);
nlohmann::ordered_json to_json(const Augmentation& augmentation);

// One [[overlay]] table; label is only known to recipes.
Overlay read_overlay(TomlReader& reader, const std::filesystem::path& file);

}  // namespace jevrin
