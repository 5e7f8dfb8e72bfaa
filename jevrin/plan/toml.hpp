// TOML: read as a tree of settings, written from JSON.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/base/setting_node.hpp"

#include <filesystem>
#include <string>
#include <string_view>

namespace jevrin::inline v1 {

// Keys of a table come in the order of their letters. InputError with FILE:LINE:COLUMN when the text is not
// TOML.
SettingNode parse_toml(std::string_view text, const std::filesystem::path& file);

// A value as TOML, on one line.
std::string toml_text(const Json& value);
// A table without its heading, a line for each key.
std::string toml_lines(const Json& table);

}  // namespace jevrin::inline v1
