#include "jevrin/plan/toml_reader.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <type_traits>

namespace jevrin {
namespace {

const char* type_name(const toml::node& node) {
    switch (node.type()) {
        case toml::node_type::table:
            return "a table";
        case toml::node_type::array:
            return "a list";
        case toml::node_type::string:
            return "text";
        case toml::node_type::integer:
            return "a whole number";
        case toml::node_type::floating_point:
            return "a number";
        case toml::node_type::boolean:
            return "true or false";
        default:
            return "a date or time";
    }
}

}  // namespace

toml::table parse_toml(std::string_view text, const std::filesystem::path& file) {
    try {
        return toml::parse(text, file.string());
    } catch (const toml::parse_error& error) {
        const auto& begin = error.source().begin;
        throw InputError(fmt::format("{}:{}:{}: this is not TOML: {}", printable(file.string()), begin.line,
                                     begin.column, printable(error.description())));
    }
}

TomlReader::TomlReader(const toml::table& table, std::string file, std::string what)
    : table_(table), file_(std::move(file)), what_(std::move(what)) {}

std::string TomlReader::place_of(const toml::node& node) const {
    // What was drawn or put in stands nowhere in the file: the table around it does.
    const bool stands = static_cast<bool>(node.source().begin);
    const auto& begin = stands ? node.source().begin : table_.source().begin;
    if (!begin) return file_;
    return fmt::format("{}:{}:{}", file_, begin.line, begin.column);
}

void TomlReader::fail(const toml::node& node, const std::string& message) const {
    throw InputError(fmt::format("{}: {}", place_of(node), message));
}

void TomlReader::fail_at(const std::string& key, const std::string& message) const {
    const toml::node* node = table_.get(key);
    fail(node == nullptr ? static_cast<const toml::node&>(table_) : *node, message);
}

void TomlReader::wrong_type(const std::string& key, const toml::node& node, const char* wanted) const {
    fail(node, fmt::format("'{}' must be {}, not {}", printable(key), wanted, type_name(node)));
}

const toml::node* TomlReader::find(const std::string& key) {
    known_.push_back(key);
    return table_.get(key);
}

const toml::node& TomlReader::require(const std::string& key) {
    const toml::node* node = find(key);
    if (node == nullptr) fail(table_, fmt::format("{} needs the key '{}'", what_, key));
    return *node;
}

std::string TomlReader::text(const std::string& key, std::optional<std::string> otherwise) {
    if (otherwise && !has(key)) {
        find(key);
        return *otherwise;
    }
    const toml::node& node = require(key);
    const auto value = node.value_exact<std::string>();
    if (!value) wrong_type(key, node, "text in quotes");
    return *value;
}

std::int64_t TomlReader::integer(const std::string& key, std::optional<std::int64_t> otherwise,
                                 std::int64_t low, std::int64_t high) {
    if (otherwise && !has(key)) {
        find(key);
        return *otherwise;
    }
    const toml::node& node = require(key);
    const auto value = node.value_exact<std::int64_t>();
    if (!value) wrong_type(key, node, "a whole number");
    if (*value < low || *value > high)
        fail(node, fmt::format("'{}' is {}; it may be {} to {}", key, *value, low, high));
    return *value;
}

double TomlReader::number(const std::string& key, std::optional<double> otherwise, double low, double high) {
    if (otherwise && !has(key)) {
        find(key);
        return *otherwise;
    }
    const toml::node& node = require(key);
    if (!node.is_number()) wrong_type(key, node, "a number");
    const double value = *node.value<double>();
    if (!(value >= low && value <= high))
        fail(node, fmt::format("'{}' is {}; it may be {} to {}", key, value, low, high));
    return value;
}

bool TomlReader::truth(const std::string& key, bool otherwise) {
    const toml::node* node = find(key);
    if (node == nullptr) return otherwise;
    const auto value = node->value_exact<bool>();
    if (!value) wrong_type(key, *node, "true or false");
    return *value;
}

template <typename Value>
std::vector<Value> TomlReader::list(const std::string& key, const char* wanted, bool flat) {
    std::vector<Value> values;
    const toml::node* node = find(key);
    if (node == nullptr) return values;
    const auto take = [&](const toml::array& array, const auto& self) -> void {
        for (const toml::node& element : array) {
            if (const toml::array* inner = flat ? element.as_array() : nullptr) {
                self(*inner, self);
                continue;
            }
            const bool fits = std::is_same_v<Value, double> ? element.is_number()
                                                            : element.value_exact<Value>().has_value();
            if (!fits) wrong_type(key, element, wanted);
            values.push_back(*element.value<Value>());
        }
    };
    if (node->as_array() == nullptr) wrong_type(key, *node, wanted);
    take(*node->as_array(), take);
    return values;
}

template <typename Value>
void TomlReader::require_range(const std::string& key, const std::vector<Value>& values, Value low,
                               Value high) const {
    for (const Value value : values)
        if (!(value >= low && value <= high))
            fail_at(key, fmt::format("'{}' holds {}; it may hold {} to {}", key, value, low, high));
}

std::vector<std::int64_t> TomlReader::integers(const std::string& key, std::int64_t low, std::int64_t high) {
    auto values = list<std::int64_t>(key, "a list of whole numbers", false);
    require_range(key, values, low, high);
    return values;
}

std::vector<double> TomlReader::numbers(const std::string& key, double low, double high) {
    auto values = list<double>(key, "a list of numbers", false);
    require_range(key, values, low, high);
    return values;
}

std::vector<double> TomlReader::flat_numbers(const std::string& key, double low, double high) {
    auto values = list<double>(key, "a list of lists of numbers", true);
    require_range(key, values, low, high);
    return values;
}

std::vector<std::string> TomlReader::texts(const std::string& key) {
    return list<std::string>(key, "a list of texts", false);
}

std::optional<TomlReader> TomlReader::table(const std::string& key) {
    const toml::node* node = find(key);
    if (node == nullptr) return std::nullopt;
    if (!node->is_table()) wrong_type(key, *node, "a table");
    return TomlReader(*node->as_table(), file_, fmt::format("[{}]", key));
}

std::vector<TomlReader> TomlReader::tables(const std::string& key) {
    const toml::node* node = find(key);
    if (node == nullptr) fail(table_, fmt::format("{} needs at least one [[{}]]", what_, key));
    const toml::array* list = node->as_array();
    if (list == nullptr || list->empty())
        wrong_type(key, *node, fmt::format("written as [[{}]]", key).c_str());
    std::vector<TomlReader> readers;
    for (const toml::node& element : *list) {
        if (!element.is_table()) wrong_type(key, element, "a table");
        readers.emplace_back(*element.as_table(), file_, fmt::format("[[{}]]", key));
    }
    return readers;
}

std::vector<std::string> TomlReader::keys() {
    for (const auto& [key, node] : table_) known_.emplace_back(key.str());
    return known_;
}

void TomlReader::finish() const {
    for (const auto& [key, node] : table_) {
        const std::string name(key.str());
        if (std::find(known_.begin(), known_.end(), name) != known_.end()) continue;
        // Keys that were put in stand nowhere; their values may.
        const auto& begin = key.source().begin;
        throw InputError(
            fmt::format("{}: {} has no key '{}'{}; its keys are {}",
                        begin ? fmt::format("{}:{}:{}", file_, begin.line, begin.column) : place_of(node),
                        what_, printable(name), did_you_mean(name, known_), fmt::join(known_, ", ")));
    }
}

}  // namespace jevrin
