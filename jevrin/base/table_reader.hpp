// Reads tables of settings, with errors that give the position: finish() refuses every key that was not read.
#pragma once

#include "jevrin/base/error.hpp"
#include "jevrin/base/setting_node.hpp"

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class TableReader {
  public:
    // table is a SettingNode::Table and must outlive the reader; what names it in messages: "[images]".
    // Relative paths in it begin beside the file.
    TableReader(const SettingNode& table, std::filesystem::path file, std::string what);

    const std::filesystem::path& file() const { return file_; }
    // "FILE:LINE:COLUMN", or "FILE" where it stands nowhere.
    std::string place() const { return place_of(table_); }
    std::string place_of(const SettingNode& node) const;
    [[noreturn]] void fail(const SettingNode& node, const std::string& message) const;

    // The value, or otherwise when the key is absent; without otherwise the key is required.
    std::string text(const std::string& key, std::optional<std::string> otherwise = std::nullopt);
    // An absolute path; InputError when it is empty.
    std::filesystem::path path(const std::string& key);
    // Within [low, high].
    std::int64_t integer(const std::string& key, std::optional<std::int64_t> otherwise, std::int64_t low,
                         std::int64_t high);
    double number(const std::string& key, std::optional<double> otherwise, double low, double high);
    bool boolean(const std::string& key, bool otherwise);
    // Integers within [low, high]; empty when the key is absent.
    std::vector<std::int64_t> integers(const std::string& key, std::int64_t low, std::int64_t high);
    std::vector<double> numbers(const std::string& key, double low, double high);
    // Numbers of a list, or of lists in a list, one after the other.
    std::vector<double> flat_numbers(const std::string& key, double low, double high);
    std::vector<std::string> texts(const std::string& key);
    // Nothing when the key is absent.
    std::optional<TableReader> table(const std::string& key);
    // The tables of [[key]]; at least one.
    std::vector<TableReader> tables(const std::string& key);

    // Runs make() and gives its InputError the place of this key.
    template <typename Make>
    auto at(const std::string& key, Make make) const -> decltype(make()) {
        try {
            return make();
        } catch (const InputError& error) {
            fail_at(key, error.what());
        }
    }

    bool has(const std::string& key) const { return table_.find(key) != nullptr; }
    bool holds_text(const std::string& key) const { return holds<std::string>(key); }
    bool holds_list(const std::string& key) const { return holds<SettingNode::List>(key); }
    bool holds_integer(const std::string& key) const { return holds<std::int64_t>(key); }
    // Of a key that holds a list.
    std::size_t size_of_list(const std::string& key) const {
        return table_.find(key)->as<SettingNode::List>()->size();
    }
    const SettingNode& content() const { return table_; }
    // The keys of the table, all of which become known.
    std::vector<std::string> keys();
    // Makes a key known that was not asked for.
    void mention(const std::string& key) { known_.push_back(key); }
    // Accepts a key without naming it among those that there are.
    void accept(const std::string& key) { accepted_.push_back(key); }
    // Refuses keys that were never asked for.
    void finish() const;

  private:
    template <typename Value>
    bool holds(const std::string& key) const {
        const SettingNode* node = table_.find(key);
        return node != nullptr && node->as<Value>() != nullptr;
    }
    template <typename Value>
    std::vector<Value> list(const std::string& key, const char* wanted, bool flat);
    template <typename Value>
    void require_range(const std::string& key, const std::vector<Value>& values, Value low, Value high) const;
    const SettingNode* find(const std::string& key);
    const SettingNode& require(const std::string& key);
    [[noreturn]] void wrong_type(const std::string& key, const SettingNode& node, const char* wanted) const;
    [[noreturn]] void fail_at(const std::string& key, const std::string& message) const;

    const SettingNode& table_;
    std::filesystem::path file_;
    std::string what_;
    std::vector<std::string> known_;
    std::vector<std::string> accepted_;
};

}  // namespace jevrin::inline v1
