// The members of a JSON object from outside, each asked for once; what nobody asked for is an error.
#pragma once

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class StatementReader {
  public:
    // InputError when it is no object. json must outlive the reader.
    StatementReader(const Json& json, std::string place) : json_(json), place_(std::move(place)) {
        if (!json.is_object()) throw InputError(fmt::format("{}: expected a JSON object", place_));
    }

    bool has(const std::string& key) { return find(key) != nullptr; }
    // Null when it is not there, or null.
    const Json* find(const std::string& key) {
        known_.push_back(key);
        const Json* value = json_.find(key);
        return value == nullptr || value->is_null() ? nullptr : value;
    }
    const Json& required(const std::string& key) {
        const Json* value = find(key);
        if (value == nullptr) throw InputError(fmt::format("{}: '{}' is missing", place_, key));
        return *value;
    }
    // At most 200 bytes, without control characters.
    std::string text(const std::string& key, std::string otherwise = "") {
        const Json* value = find(key);
        return value == nullptr ? std::move(otherwise) : text_of(*value, key);
    }
    std::string required_text(const std::string& key) {
        std::string value = text_of(required(key), key);
        if (value.empty()) refuse(key, "is empty");
        return value;
    }
    std::int64_t integer(const std::string& key, std::int64_t lowest, std::int64_t otherwise) {
        const Json* value = find(key);
        if (value == nullptr) return otherwise;
        if (!value->is_integer() || value->get<std::int64_t>() < lowest)
            refuse(key, fmt::format("is no integer from {} on", lowest));
        return value->get<std::int64_t>();
    }
    double number(const std::string& key, double lowest, double highest, double otherwise) {
        const Json* value = find(key);
        if (value == nullptr) return otherwise;
        return number_of(*value, key, lowest, highest);
    }
    double number_of(const Json& value, const std::string& key, double lowest, double highest) const {
        if (!value.is_number() || !(value.get<double>() >= lowest && value.get<double>() <= highest))
            refuse(key, std::isinf(lowest)    ? "is no number"
                        : std::isinf(highest) ? fmt::format("is no number from {} on", lowest)
                                              : fmt::format("is no number from {} to {}", lowest, highest));
        return value.get<double>();
    }
    std::vector<std::string> texts(const std::string& key) {
        std::vector<std::string> values;
        const Json* value = find(key);
        if (value == nullptr) return values;
        if (!value->is_array()) refuse(key, "is no array of texts");
        for (const Json& one : *value) values.push_back(text_of(one, key, longest_path));
        return values;
    }

    [[noreturn]] void refuse(const std::string& key, const std::string& what) const {
        throw InputError(fmt::format("{}: '{}' {}", place_, key, what));
    }
    // InputError for a key that was never asked for.
    void require_all_known() const {
        for (const auto& [key, value] : json_.items())
            if (std::find(known_.begin(), known_.end(), key) == known_.end())
                throw InputError(fmt::format("{}: '{}' is no key here{}", place_, printable(key),
                                             did_you_mean(key, known_)));
    }
    const std::string& place() const { return place_; }

  private:
    static constexpr std::size_t longest_text = 200;
    static constexpr std::size_t longest_path = 4'200;

    std::string text_of(const Json& value, const std::string& key, std::size_t longest = longest_text) const {
        if (!value.is_string()) refuse(key, "is no text");
        std::string text = value.get<std::string>();
        if (text.size() > longest) refuse(key, fmt::format("is longer than {} bytes", longest));
        if (printable(text) != text) refuse(key, "holds control characters");
        return text;
    }

    const Json& json_;
    std::string place_;
    std::vector<std::string> known_;
};

}  // namespace jevrin::inline v1
