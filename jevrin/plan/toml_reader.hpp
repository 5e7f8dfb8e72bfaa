// Reading TOML tables with errors that say where: every key must be asked for, or finish() refuses it.
#pragma once

#include <toml++/toml.h>

#include <cstdint>
#include <filesystem>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jevrin {

// InputError with FILE:LINE:COLUMN when the text is not TOML.
toml::table parse_toml(std::string_view text, const std::filesystem::path& file);

class TomlReader {
  public:
    // what names the table in messages: "[images]".
    TomlReader(const toml::table& table, std::string file, std::string what);

    // "FILE:LINE:COLUMN".
    std::string place() const { return place_of(table_); }
    std::string place_of(const toml::node& node) const;
    [[noreturn]] void fail(const toml::node& node, const std::string& message) const;

    // The value, or otherwise when the key is absent; without otherwise the key is required.
    std::string text(const std::string& key, std::optional<std::string> otherwise = std::nullopt);
    // Within [low, high].
    std::int64_t integer(const std::string& key, std::optional<std::int64_t> otherwise, std::int64_t low,
                         std::int64_t high);
    double number(const std::string& key, std::optional<double> otherwise, double low, double high);
    bool truth(const std::string& key, bool otherwise);
    // Integers within [low, high]; empty when the key is absent.
    std::vector<std::int64_t> integers(const std::string& key, std::int64_t low, std::int64_t high);
    std::vector<double> numbers(const std::string& key, double low, double high);
    // Numbers of a list, or of lists in a list, one after the other.
    std::vector<double> flat_numbers(const std::string& key, double low, double high);
    std::vector<std::string> texts(const std::string& key);
    // Nothing when the key is absent.
    std::optional<TomlReader> table(const std::string& key);
    // The tables of [[key]]; at least one.
    std::vector<TomlReader> tables(const std::string& key);

    // Runs make() and gives its InputError the place of this key.
    template <typename Make>
    auto at(const std::string& key, Make make) const -> decltype(make());

    bool has(const std::string& key) const { return table_.contains(key); }
    bool holds_text(const std::string& key) const { return table_[key].is_string(); }
    bool holds_list(const std::string& key) const { return table_[key].is_array(); }
    bool holds_integer(const std::string& key) const { return table_[key].is_integer(); }
    // Of a key that holds a list.
    std::size_t size_of_list(const std::string& key) const { return table_[key].as_array()->size(); }
    const toml::table& content() const { return table_; }
    // The keys of the table, all of which become known.
    std::vector<std::string> keys();
    // Makes a key known that was not asked for.
    void mention(const std::string& key) { known_.push_back(key); }
    // Refuses keys that were never asked for.
    void finish() const;

  private:
    template <typename Value>
    std::vector<Value> list(const std::string& key, const char* wanted, bool flat);
    template <typename Value>
    void require_range(const std::string& key, const std::vector<Value>& values, Value low, Value high) const;
    const toml::node* find(const std::string& key);
    const toml::node& require(const std::string& key);
    [[noreturn]] void wrong_type(const std::string& key, const toml::node& node, const char* wanted) const;
    [[noreturn]] void fail_at(const std::string& key, const std::string& message) const;

    const toml::table& table_;
    std::string file_;
    std::string what_;
    std::vector<std::string> known_;
};

}  // namespace jevrin

#include "jevrin/base/error.hpp"

namespace jevrin {

template <typename Make>
auto TomlReader::at(const std::string& key, Make make) const -> decltype(make()) {
    try {
        return make();
    } catch (const InputError& error) {
        fail_at(key, error.what());
    }
}

}  // namespace jevrin
