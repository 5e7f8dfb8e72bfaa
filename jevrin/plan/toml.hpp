// TOML as a tree of settings.
#pragma once

#include "jevrin/base/setting_node.hpp"

#include <filesystem>
#include <string_view>

namespace jevrin::inline v1 {

// Keys of a table come in the order of their letters. InputError with FILE:LINE:COLUMN when the text is not
// TOML.
SettingNode parse_toml(std::string_view text, const std::filesystem::path& file);

}  // namespace jevrin::inline v1
