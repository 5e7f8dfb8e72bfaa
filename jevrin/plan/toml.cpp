#include "jevrin/plan/toml.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <toml++/toml.h>

#include <cctype>
#include <cstdint>
#include <utility>

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

namespace {

// A key of this many parts nests so many tables, which parsing, reading and releasing go through one inside
// the other. Values inside values are limited by the library.
constexpr std::size_t most_key_parts = 64;

bool is_key_character(char c) {
    return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_' || c == '-';
}

// Refuses "a.b.c..." beyond the limit before it is parsed. Inside strings a sequence so long is no text
// either.
void require_shallow_keys(std::string_view text, const std::filesystem::path& file) {
    std::size_t parts = 0;
    std::int64_t line = 1;
    char before = '\0';  // the last character that is not blank
    bool blank = false;  // behind that
    for (const char c : text) {
        if (c == '\n') ++line;
        if (c == ' ' || c == '\t') {
            blank = true;
            continue;
        }
        // Two words in a row are no key.
        if (std::exchange(blank, false) && c != '.' && before != '.') parts = 0;
        const bool part = is_key_character(c) || c == '"' || c == '\'';
        const bool joins = c == '.' && before != '.' && before != '\0' && before != '\n';
        if (joins && ++parts >= most_key_parts)
            throw InputError(fmt::format("{}:{}: a key has more than {} parts; nest less",
                                         printable(file.string()), line, most_key_parts));
        if (!part && !joins) parts = 0;
        before = c;
    }
}

// TOML's basic strings are those of JSON, but for one more character that must be escaped.
std::string quoted(const std::string& text) {
    std::string result;
    for (const char c : json_text(Json(text))) result += c == '\x7f' ? "\\u007f" : std::string(1, c);
    return result;
}

std::string key_text(const std::string& key) {
    const bool bare = !key.empty() && std::all_of(key.begin(), key.end(), [](char c) {
        return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' ||
               c == '-';
    });
    return bare ? key : quoted(key);
}

}  // namespace

SettingNode parse_toml(std::string_view text, const std::filesystem::path& file) {
    require_shallow_keys(text, file);
    try {
        return node_of(toml::parse(text, file.string()));
    } catch (const toml::parse_error& error) {
        const auto& begin = error.source().begin;
        throw InputError(fmt::format("{}:{}:{}: this is not TOML: {}", printable(file.string()), begin.line,
                                     begin.column, printable(error.description())));
    }
}

std::string toml_text(const Json& value) {
    if (value.is_string()) return quoted(value.get<std::string>());
    if (!value.is_structured()) return json_text(value);
    std::vector<std::string> inner;
    for (const Json& element : value) inner.push_back(toml_text(element));
    for (const auto& [key, element] : value.items())
        inner.push_back(key_text(key) + " = " + toml_text(element));
    const std::string text = fmt::format("{}", fmt::join(inner, ", "));
    if (value.is_array()) return "[" + text + "]";
    return text.empty() ? "{}" : "{ " + text + " }";
}

std::string toml_lines(const Json& table) {
    std::string text;
    for (const auto& [key, value] : table.items())
        text += fmt::format("{} = {}\n", key_text(key), toml_text(value));
    return text;
}

}  // namespace jevrin::inline v1
