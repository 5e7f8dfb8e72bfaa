#include "jevrin/plan/toml.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <toml++/toml.h>

namespace jevrin::inline v1 {
namespace {

SourcePlace place_at(const toml::source_position& position) {
    return {position.line, position.column};
}

SettingNode node_of(const toml::node& from) {
    SettingNode node{.value = {}, .place = place_at(from.source().begin)};
    if (const auto value = from.value_exact<bool>()) node.value = *value;
    if (const auto value = from.value_exact<std::int64_t>()) node.value = *value;
    if (const auto value = from.value_exact<double>()) node.value = *value;
    if (const auto value = from.value_exact<std::string>()) node.value = *value;
    if (const toml::array* array = from.as_array()) {
        auto& list = node.value.emplace<SettingNode::List>();
        for (const toml::node& element : *array) list.push_back(node_of(element));
    }
    if (const toml::table* entries = from.as_table()) {
        auto& table = node.value.emplace<SettingNode::Table>();
        for (const auto& [key, element] : *entries)
            table.push_back({std::string(key.str()), place_at(key.source().begin), node_of(element)});
    }
    return node;
}

}  // namespace

SettingNode parse_toml(std::string_view text, const std::filesystem::path& file) {
    try {
        return node_of(toml::parse(text, file.string()));
    } catch (const toml::parse_error& error) {
        const auto& begin = error.source().begin;
        throw InputError(fmt::format("{}:{}:{}: this is not TOML: {}", printable(file.string()), begin.line,
                                     begin.column, printable(error.description())));
    }
}

}  // namespace jevrin::inline v1
