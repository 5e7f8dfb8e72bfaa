// A recipe: how `jevrin compose` makes a new image set. TOML with [images], [compose] and [[overlay]].
#pragma once

#include "jevrin/images/composition.hpp"
#include "jevrin/plan/images_plan.hpp"

#include <filesystem>

namespace jevrin::inline v1 {

struct Recipe {
    ImagesPlan images;
    Composition composition;
};

// InputError with FILE:LINE:COLUMN, as for plans.
Recipe read_recipe(const std::filesystem::path& file);

// The [images] of a plan or recipe alone: what surveys need. Other tables are not looked at.
ImagesPlan read_images_of(const std::filesystem::path& file);

}  // namespace jevrin::inline v1
