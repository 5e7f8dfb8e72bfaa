// JSON inside the library: one type, keys in the order in which they were written. Reading and writing text
// is compiled once, behind two functions.
#pragma once

#include <nlohmann/json.hpp>

#include <string>
#include <string_view>

namespace jevrin::inline v1 {

using Json = nlohmann::ordered_json;

// A value for which is_discarded() holds when the text is not JSON; asking it for anything throws
// nlohmann::json::exception, as a missing key does.
Json parse_json(std::string_view text);

// Bytes that are not UTF-8 become the replacement character. indent: spaces per level; -1 for one line.
std::string json_text(const Json& json, int indent = -1);

}  // namespace jevrin::inline v1

extern template class nlohmann::basic_json<nlohmann::ordered_map>;
