#include "jevrin/base/json.hpp"

template class nlohmann::basic_json<nlohmann::ordered_map>;

namespace jevrin::inline v1 {

Json parse_json(std::string_view text) {
    return Json::parse(text, nullptr, false);
}

std::string json_text(const Json& json, int indent) {
    return json.dump(indent, ' ', false, Json::error_handler_t::replace);
}

}  // namespace jevrin::inline v1
