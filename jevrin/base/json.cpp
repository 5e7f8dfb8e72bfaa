#include "jevrin/base/json.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <ostream>

namespace jevrin::inline v1 {
namespace {

using Text = nlohmann::ordered_json;

constexpr std::size_t deepest = 1000;
constexpr std::size_t deepest_from_outside = 32;
constexpr std::size_t most_keys_from_outside = 1000;

// Puts a value together from what the reader of the library meets.
class Builder : public nlohmann::json_sax<Text> {
  public:
    bool null() override { return put({}); }
    bool boolean(bool value) override { return put(value); }
    bool number_integer(std::int64_t value) override { return put(value); }
    bool number_unsigned(std::uint64_t value) override {
        if (value > static_cast<std::uint64_t>(std::numeric_limits<std::int64_t>::max()))
            return put(static_cast<double>(value));
        return put(value);
    }
    bool number_float(double value, const std::string&) override { return put(value); }
    bool string(std::string& value) override { return put(std::move(value)); }
    bool binary(Text::binary_t&) override { return false; }
    bool start_object(std::size_t) override { return open(Json::object()); }
    bool start_array(std::size_t) override { return open(Json::array()); }
    bool key(std::string& name) override {
        key_ = std::move(name);
        return true;
    }
    bool end_object() override { return close(); }
    bool end_array() override { return close(); }
    bool parse_error(std::size_t, const std::string&, const Text::exception&) override { return false; }

    Json take() { return std::move(whole_); }

  protected:
    // The innermost value that is not complete, and how many there are.
    const Json& innermost() const { return *open_.back(); }
    std::size_t depth() const { return open_.size(); }

  private:
    Json& place(Json value) {
        if (open_.empty()) return whole_ = std::move(value);
        if (open_.back()->is_object()) return (*open_.back())[key_] = std::move(value);
        open_.back()->push_back(std::move(value));
        return open_.back()->back();
    }
    bool put(Json value) {
        place(std::move(value));
        return true;
    }
    bool open(Json value) {
        if (open_.size() == deepest) return false;
        open_.push_back(&place(std::move(value)));
        return true;
    }
    bool close() {
        open_.pop_back();
        return true;
    }

    Json whole_;
    std::vector<Json*> open_;  // none moves while it stands here: only the last one grows
    std::string key_;
};

// The same for text from outside: says what is wrong with it.
class StrictBuilder : public Builder {
  public:
    bool start_object(std::size_t size) override { return may_open() && Builder::start_object(size); }
    bool start_array(std::size_t size) override { return may_open() && Builder::start_array(size); }
    bool key(std::string& name) override {
        if (innermost().contains(name))
            return refuse(fmt::format("the key '{}' stands twice", printable(name)));
        if (innermost().size() == most_keys_from_outside)
            return refuse(fmt::format("an object has more than {} keys", most_keys_from_outside));
        return Builder::key(name);
    }
    bool parse_error(std::size_t position, const std::string&, const Text::exception& error) override {
        // A number that no double holds is an error of the same kind; it has no better words.
        return refuse(error.id == 406 ? "a number is too large"
                                      : fmt::format("not JSON: wrong at byte {}", position));
    }

    const std::string& problem() const { return problem_; }

  private:
    bool may_open() {
        return depth() < deepest_from_outside ||
               refuse(fmt::format("values are nested more than {} deep", deepest_from_outside));
    }
    bool refuse(std::string problem) {
        problem_ = std::move(problem);
        return false;
    }

    std::string problem_;
};

Text text_of(const Json& json) {
    if (json.is_boolean()) return json.get<bool>();
    if (json.is_integer()) return json.get<std::int64_t>();
    if (json.is_float()) return json.get<double>();
    if (json.is_string()) return json.get<std::string>();
    if (json.is_array()) {
        Text result = Text::array();
        for (const Json& element : json) result.push_back(text_of(element));
        return result;
    }
    if (json.is_object()) {
        Text result = Text::object();
        for (const auto& [key, value] : json.items()) result[key] = text_of(value);
        return result;
    }
    return nullptr;
}

}  // namespace

Json::Json() : value_(nullptr) {}
Json::Json(const Json&) = default;
Json::Json(Json&&) noexcept = default;
Json& Json::operator=(const Json&) = default;
Json& Json::operator=(Json&&) noexcept = default;
Json::~Json() = default;

Json::Json(Value value) : value_(std::move(value)) {}

void Json::set(bool value) {
    value_ = value;
}
void Json::set(std::int64_t value) {
    value_ = value;
}
void Json::set(double value) {
    value_ = value;
}
void Json::set_empty(bool object) {
    if (object)
        value_ = Object();
    else
        value_ = Array();
}
Json::Json(const char* text) : Json(std::string(text)) {}
Json::Json(std::string_view text) : Json(std::string(text)) {}
Json::Json(std::string text) : value_(std::move(text)) {}

Json::Json(std::initializer_list<Json> elements) : Json() {
    const bool members = std::all_of(elements.begin(), elements.end(), [](const Json& element) {
        return element.is_array() && element.size() == 2 && element[0].is_string();
    });
    if (!members) {
        value_ = Array(elements);
        return;
    }
    value_ = Object();
    for (const Json& element : elements) (*this)[element[0].text()] = element[1];
}

Json Json::array(std::initializer_list<Json> elements) {
    return Json(Value(Array(elements)));
}

Json Json::object() {
    return Json(Value(Object()));
}

bool Json::is_null() const {
    return std::holds_alternative<std::nullptr_t>(value_);
}

bool Json::is_boolean() const {
    return std::holds_alternative<bool>(value_);
}

bool Json::is_integer() const {
    return std::holds_alternative<std::int64_t>(value_);
}

bool Json::is_float() const {
    return std::holds_alternative<double>(value_);
}

bool Json::is_string() const {
    return std::holds_alternative<std::string>(value_);
}

bool Json::is_array() const {
    return std::holds_alternative<Array>(value_);
}

bool Json::is_object() const {
    return std::holds_alternative<Object>(value_);
}

std::size_t Json::size() const {
    if (const auto* array = std::get_if<Array>(&value_)) return array->size();
    if (const auto* object = std::get_if<Object>(&value_)) return object->size();
    return is_null() ? 0 : 1;
}

void Json::push_back(Json element) {
    if (is_null()) value_ = Array();
    elements();
    std::get<Array>(value_).push_back(std::move(element));
}

const Json& Json::element(std::size_t index) const {
    const Array& array = elements();
    if (index >= array.size()) throw JsonError("the JSON has too short an array");
    return array[index];
}

Json::Array::const_iterator Json::begin() const {
    static const Array none;
    return is_array() ? std::get<Array>(value_).begin() : none.begin();
}

Json::Array::const_iterator Json::end() const {
    return begin() + (is_array() ? std::ssize(std::get<Array>(value_)) : 0);
}

const Json* Json::find(std::string_view key) const {
    for (const Member& member : items())
        if (member.key == key) return &member.value;
    return nullptr;
}

const Json& Json::at(std::string_view key) const {
    if (const Json* member = find(key)) return *member;
    throw JsonError("the JSON has no key '" + std::string(key) + "'");
}

Json& Json::operator[](std::string_view key) {
    if (const Json* member = find(key)) return const_cast<Json&>(*member);
    if (is_null()) value_ = Object();
    members();
    Object& object = std::get<Object>(value_);
    object.push_back({std::string(key), {}});
    return object.back().value;
}

void Json::erase(std::string_view key) {
    members();
    std::erase_if(std::get<Object>(value_), [&](const Member& member) { return member.key == key; });
}

void Json::update(const Json& other) {
    for (const auto& [key, value] : other.members()) (*this)[key] = value;
}

const Json::Object& Json::items() const {
    static const Object none;
    return is_object() ? std::get<Object>(value_) : none;
}

bool operator==(const Json& a, const Json& b) {
    if (a.is_number() && b.is_number() && a.is_integer() != b.is_integer()) return a.number() == b.number();
    return a.value_ == b.value_;
}

std::partial_ordering operator<=>(const Json& a, const Json& b) {
    if (!a.is_number() || !b.is_number()) return std::partial_ordering::unordered;
    return a.is_integer() && b.is_integer() ? a.get<std::int64_t>() <=> b.get<std::int64_t>()
                                            : a.number() <=> b.number();
}

std::ostream& operator<<(std::ostream& stream, const Json& json) {
    return stream << json_text(json);
}

void Json::refuse(const char* wanted) const {
    throw JsonError("the JSON has " + json_text(*this) + " in place of " + wanted);
}

bool Json::boolean() const {
    if (!is_boolean()) refuse("a boolean");
    return std::get<bool>(value_);
}

std::int64_t Json::integer(std::int64_t lowest, std::uint64_t highest) const {
    if (!is_integer()) refuse("an integer");
    const std::int64_t value = std::get<std::int64_t>(value_);
    if (value < lowest || (value > 0 && static_cast<std::uint64_t>(value) > highest))
        refuse("an integer within its range");
    return value;
}

double Json::number() const {
    if (is_integer()) return static_cast<double>(std::get<std::int64_t>(value_));
    if (!is_float()) refuse("a number");
    return std::get<double>(value_);
}

const std::string& Json::text() const {
    if (!is_string()) refuse("a string");
    return std::get<std::string>(value_);
}

const Json::Array& Json::elements() const {
    if (!is_array()) refuse("an array");
    return std::get<Array>(value_);
}

const Json::Object& Json::members() const {
    if (!is_object()) refuse("an object");
    return std::get<Object>(value_);
}

Json parse_json(std::string_view text) {
    Builder builder;
    return Text::sax_parse(text, &builder) ? builder.take() : Json();
}

Json read_json(std::string_view text, const std::string& place) {
    StrictBuilder builder;
    if (!Text::sax_parse(text, &builder)) throw InputError(fmt::format("{}: {}", place, builder.problem()));
    return builder.take();
}

std::string json_text(const Json& json, int indent) {
    return text_of(json).dump(indent, ' ', false, Text::error_handler_t::replace);
}

}  // namespace jevrin::inline v1
