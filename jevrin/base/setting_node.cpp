#include "jevrin/base/setting_node.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

double SettingNode::number() const {
    const auto* whole = as<std::int64_t>();
    return whole != nullptr ? static_cast<double>(*whole) : std::get<double>(value);
}

const SettingNode* SettingNode::find(std::string_view key) const {
    const auto* table = as<Table>();
    if (table == nullptr) return nullptr;
    for (const SettingEntry& entry : *table)
        if (entry.key == key) return &entry.node;
    return nullptr;
}

SettingNode* SettingNode::find(std::string_view key) {
    return const_cast<SettingNode*>(std::as_const(*this).find(key));
}

SettingNode& SettingNode::put(std::string_view key, SettingNode node) {
    if (SettingNode* known = find(key)) return *known = std::move(node);
    auto& table = std::get<Table>(value);
    table.push_back({std::string(key), {}, std::move(node)});
    return table.back().node;
}

void SettingNode::erase(std::string_view key) {
    if (auto* table = as<Table>())
        std::erase_if(*table, [&](const SettingEntry& entry) { return entry.key == key; });
}

const char* type_name(const SettingNode& node) {
    static constexpr const char* names[] = {"a date or time", "a boolean", "an integer", "a number",
                                            "a string",       "an array",  "a table"};
    return names[node.value.index()];
}

SettingNode node_of(const Json& json) {
    SettingNode node;
    if (json.is_boolean()) node.value = json.get<bool>();
    if (json.is_integer()) node.value = json.get<std::int64_t>();
    if (json.is_float()) node.value = json.get<double>();
    if (json.is_string()) node.value = json.get<std::string>();
    if (json.is_array()) {
        auto& list = node.value.emplace<SettingNode::List>();
        for (const Json& element : json) list.push_back(node_of(element));
    }
    if (json.is_object()) {
        auto& table = node.value.emplace<SettingNode::Table>();
        for (const auto& [key, element] : json.items()) table.push_back({key, {}, node_of(element)});
    }
    return node;
}

}  // namespace jevrin::inline v1
