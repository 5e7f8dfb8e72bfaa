// Reading the tables that plans and recipes share: [images], augment, overlays.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/plan/images_plan.hpp"
#include "jevrin/plan/toml_reader.hpp"
#include "jevrin/training/training_settings.hpp"

#include <filesystem>
#include <optional>
#include <string>

namespace jevrin {

// The path under a key: relative ones begin beside the plan's file. InputError with the place when it is
// empty.
std::filesystem::path read_path(TomlReader& reader, const std::string& key,
                                const std::filesystem::path& file);

// InputError with the place for whatever is wrong. file is the plan's.
ImagesPlan read_images(TomlReader reader, const std::filesystem::path& file);

// The key `scaling`; nothing when it is absent.
std::optional<StatedScaling> read_scaling(TomlReader& reader);

// A [network] table: a family with its settings, or a list of layers.
Architecture read_network(TomlReader reader);
Json to_json(const Architecture& architecture);
// The function that a word names, relu unless the key is there.
FunctionKind read_function(TomlReader& reader, const std::string& key);

// The key `augment`: the name of a strength, or a table that may begin from one. What it does not state stays
// as it is in `otherwise`. Overlays are loaded.
Augmentation read_augmentation(TomlReader& reader, const std::filesystem::path& file,
                               const Augmentation& otherwise);

// A [training] table: what it states replaces the settings given, the rest stays.
TrainingSettings read_training(TomlReader reader, TrainingSettings settings,
                               const std::filesystem::path& file);
Json to_json(const TrainingSettings& settings);

// One [[overlay]] table, without its label and classes, which only recipes have.
Overlay read_overlay(TomlReader& reader, const std::filesystem::path& file);

}  // namespace jevrin
