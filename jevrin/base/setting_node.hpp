// The content of a file as a tree: settings with the position of each, in whatever syntax.
#pragma once

#include "jevrin/base/json.hpp"

#include <cstdint>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace jevrin::inline v1 {

// From 1; 0: it stands nowhere (a value that was put in, or a file without lines).
struct SourcePlace {
    std::uint32_t line = 0;
    std::uint32_t column = 0;

    explicit operator bool() const { return line > 0; }
};

struct SettingEntry;

struct SettingNode {
    // What no setting can be: a date, a time, null.
    struct Other {};
    using List = std::vector<SettingNode>;
    using Table = std::vector<SettingEntry>;

    std::variant<Other, bool, std::int64_t, double, std::string, List, Table> value;
    SourcePlace place;

    template <typename Value>
    const Value* as() const {
        return std::get_if<Value>(&value);
    }
    template <typename Value>
    Value* as() {
        return std::get_if<Value>(&value);
    }
    bool is_number() const { return as<std::int64_t>() != nullptr || as<double>() != nullptr; }
    // Of is_number().
    double number() const;

    // The value of a key of a table; null when it is absent or this is no table.
    const SettingNode* find(std::string_view key) const;
    SettingNode* find(std::string_view key);
    // Puts the value under a key of a table, replacing what was there.
    SettingNode& put(std::string_view key, SettingNode node);
    void erase(std::string_view key);
};

struct SettingEntry {
    std::string key;
    SourcePlace place;  // of the key
    SettingNode node;
};

// "a table", "a string", "an integer", ...
const char* type_name(const SettingNode& node);

// JSON without places.
SettingNode node_of(const Json& json);

}  // namespace jevrin::inline v1
