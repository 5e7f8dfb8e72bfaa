// The names of the three parts of an image set.
#pragma once

#include "jevrin/base/enumeration.hpp"

#include <array>
#include <optional>
#include <string>

namespace jevrin::inline v1 {

enum class Part { training, validation, test };
inline constexpr std::array<Part, 3> all_parts = {Part::training, Part::validation, Part::test};
const EnumNames<Part>& names_of(Part);

// From a folder's name or a cell: the name, or train, valid, val, testing, in any case.
std::optional<Part> part_from_name(const std::string& name);

}  // namespace jevrin::inline v1
