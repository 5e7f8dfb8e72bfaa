#include "jevrin/base/table_reader.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <type_traits>

namespace jevrin::inline v1 {

TableReader::TableReader(const SettingNode& table, std::filesystem::path file, std::string what)
    : table_(table), file_(std::move(file)), what_(std::move(what)) {}

namespace {

std::string place_in(const std::filesystem::path& file, const SourcePlace& place) {
    const std::string name = printable(file.string());
    return place ? fmt::format("{}:{}:{}", name, place.line, place.column) : name;
}

}  // namespace

std::string TableReader::place_of(const SettingNode& node) const {
    // What was drawn or put in stands nowhere in the file: the table around it does.
    return place_in(file_, node.place ? node.place : table_.place);
}

void TableReader::fail(const SettingNode& node, const std::string& message) const {
    throw InputError(fmt::format("{}: {}", place_of(node), message));
}

void TableReader::fail_at(const std::string& key, const std::string& message) const {
    const SettingNode* node = table_.find(key);
    fail(node == nullptr ? table_ : *node, message);
}

void TableReader::wrong_type(const std::string& key, const SettingNode& node, const char* wanted) const {
    fail(node, fmt::format("'{}' must be {}, not {}", printable(key), wanted, type_name(node)));
}

const SettingNode* TableReader::find(const std::string& key) {
    if (std::find(known_.begin(), known_.end(), key) == known_.end()) known_.push_back(key);
    return table_.find(key);
}

const SettingNode& TableReader::require(const std::string& key) {
    const SettingNode* node = find(key);
    if (node == nullptr) fail(table_, fmt::format("{} lacks the required key '{}'", what_, key));
    return *node;
}

std::string TableReader::text(const std::string& key, std::optional<std::string> otherwise) {
    if (otherwise && !has(key)) {
        find(key);
        return *otherwise;
    }
    const SettingNode& node = require(key);
    const auto* value = node.as<std::string>();
    if (!value) wrong_type(key, node, "a string");
    return *value;
}

std::filesystem::path TableReader::path(const std::string& key) {
    const std::string stated = text(key);
    return at(key, [&] {
        if (stated.empty()) throw InputError(fmt::format("'{}' is empty; name a file or folder", key));
        return std::filesystem::absolute(file_.parent_path() / stated).lexically_normal();
    });
}

std::int64_t TableReader::integer(const std::string& key, std::optional<std::int64_t> otherwise,
                                  std::int64_t low, std::int64_t high) {
    if (otherwise && !has(key)) {
        find(key);
        return *otherwise;
    }
    const SettingNode& node = require(key);
    const auto* value = node.as<std::int64_t>();
    if (!value) wrong_type(key, node, "an integer");
    if (*value < low || *value > high)
        fail(node, fmt::format("'{}' is {}, outside the range {} to {}", key, *value, low, high));
    return *value;
}

double TableReader::number(const std::string& key, std::optional<double> otherwise, double low, double high) {
    if (otherwise && !has(key)) {
        find(key);
        return *otherwise;
    }
    const SettingNode& node = require(key);
    if (!node.is_number()) wrong_type(key, node, "a number");
    const double value = node.number();
    if (!(value >= low && value <= high))
        fail(node, fmt::format("'{}' is {}, outside the range {} to {}", key, value, low, high));
    return value;
}

bool TableReader::boolean(const std::string& key, bool otherwise) {
    const SettingNode* node = find(key);
    if (node == nullptr) return otherwise;
    const auto* value = node->as<bool>();
    if (!value) wrong_type(key, *node, "a boolean (true or false)");
    return *value;
}

template <typename Value>
std::vector<Value> TableReader::list(const std::string& key, const char* wanted, bool flat) {
    std::vector<Value> values;
    const SettingNode* node = find(key);
    if (node == nullptr) return values;
    const auto take = [&](const SettingNode::List& elements, const auto& self) -> void {
        for (const SettingNode& element : elements) {
            if (const auto* inner = flat ? element.as<SettingNode::List>() : nullptr) {
                self(*inner, self);
                continue;
            }
            if constexpr (std::is_same_v<Value, double>) {
                if (!element.is_number()) wrong_type(key, element, wanted);
                values.push_back(element.number());
            } else {
                if (element.as<Value>() == nullptr) wrong_type(key, element, wanted);
                values.push_back(*element.as<Value>());
            }
        }
    };
    if (node->as<SettingNode::List>() == nullptr) wrong_type(key, *node, wanted);
    take(*node->as<SettingNode::List>(), take);
    return values;
}

template <typename Value>
void TableReader::require_range(const std::string& key, const std::vector<Value>& values, Value low,
                                Value high) const {
    for (const Value value : values)
        if (!(value >= low && value <= high))
            fail_at(key, fmt::format("'{}' contains {}, outside the range {} to {}", key, value, low, high));
}

std::vector<std::int64_t> TableReader::integers(const std::string& key, std::int64_t low, std::int64_t high) {
    auto values = list<std::int64_t>(key, "a list of integers", false);
    require_range(key, values, low, high);
    return values;
}

std::vector<double> TableReader::numbers(const std::string& key, double low, double high) {
    auto values = list<double>(key, "a list of numbers", false);
    require_range(key, values, low, high);
    return values;
}

std::vector<double> TableReader::flat_numbers(const std::string& key, double low, double high) {
    auto values = list<double>(key, "a list of lists of numbers", true);
    require_range(key, values, low, high);
    return values;
}

std::vector<std::string> TableReader::texts(const std::string& key) {
    return list<std::string>(key, "a list of strings", false);
}

std::optional<TableReader> TableReader::table(const std::string& key) {
    const SettingNode* node = find(key);
    if (node == nullptr) return std::nullopt;
    if (node->as<SettingNode::Table>() == nullptr) wrong_type(key, *node, "a table");
    return TableReader(*node, file_, fmt::format("[{}]", key));
}

std::vector<TableReader> TableReader::tables(const std::string& key) {
    const SettingNode* node = find(key);
    if (node == nullptr) fail(table_, fmt::format("{} needs at least one [[{}]]", what_, key));
    const auto* list = node->as<SettingNode::List>();
    if (list == nullptr || list->empty())
        wrong_type(key, *node, fmt::format("written as [[{}]]", key).c_str());
    std::vector<TableReader> readers;
    for (const SettingNode& element : *list) {
        if (element.as<SettingNode::Table>() == nullptr) wrong_type(key, element, "a table");
        readers.emplace_back(element, file_, fmt::format("[[{}]]", key));
    }
    return readers;
}

std::vector<std::string> TableReader::keys() {
    for (const SettingEntry& entry : *table_.as<SettingNode::Table>()) known_.push_back(entry.key);
    return known_;
}

void TableReader::finish() const {
    const auto contains = [](const std::vector<std::string>& keys, const std::string& key) {
        return std::find(keys.begin(), keys.end(), key) != keys.end();
    };
    for (const SettingEntry& entry : *table_.as<SettingNode::Table>()) {
        if (contains(known_, entry.key) || contains(accepted_, entry.key)) continue;
        // Keys that were put in stand nowhere; their values may.
        throw InputError(fmt::format("{}: {} has no key '{}'{}; its keys are {}",
                                     entry.place ? place_in(file_, entry.place) : place_of(entry.node), what_,
                                     printable(entry.key), did_you_mean(entry.key, known_),
                                     fmt::join(known_, ", ")));
    }
}

}  // namespace jevrin::inline v1
