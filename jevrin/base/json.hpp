// JSON inside the library: a value, and its text. Keys keep the order in which they were written.
//
//   Json report = {{"run", "new head/1"}, {"scores", {0.8, 0.9}}};
//   report["epochs"] = 15;
//   std::string text = json_text(report, 2);
//
// Text is read and written by a library, in one source file: a header that only names the type costs every
// source that includes it next to nothing.
#pragma once

#include "jevrin/base/error.hpp"

#include <compare>
#include <concepts>
#include <cstddef>
#include <cstdint>
#include <initializer_list>
#include <iosfwd>
#include <limits>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

namespace jevrin::inline v1 {

// A key that is not there, an index out of range, a value of another type.
class JsonError : public InputError {
  public:
    using InputError::InputError;
};

// null, boolean, integer, floating-point number, string, array or object. Integers beyond 63 bits are read as
// floating-point numbers.
class Json {
  public:
    struct Member;
    using Array = std::vector<Json>;
    using Object = std::vector<Member>;

    Json();  // null
    Json(std::nullptr_t) : Json() {}
    Json(const Json&);
    Json(Json&&) noexcept;
    Json& operator=(const Json&);
    Json& operator=(Json&&) noexcept;
    ~Json();

    template <std::same_as<bool> Boolean>
    Json(Boolean value) : Json() {
        set(value);
    }
    template <std::integral Integer>
    requires(!std::same_as<Integer, bool>) Json(Integer value) : Json() {
        set(static_cast<std::int64_t>(value));
    }
    template <std::floating_point Number>
    Json(Number value) : Json() {
        set(static_cast<double>(value));
    }
    Json(const char* text);
    Json(std::string_view text);
    Json(std::string text);
    // An object if each element is an array of a string and a value, otherwise an array.
    Json(std::initializer_list<Json> elements);
    // An array of what is in a vector or an array; an object of what is in a map.
    template <class Elements>
    requires requires(const Elements& e) {
        typename Elements::value_type;
        e.begin() != e.end();
    }
    Json(const Elements& elements) : Json() {
        constexpr bool is_map = requires {
            typename Elements::mapped_type;
        };
        set_empty(is_map);
        for (const auto& element : elements) {
            if constexpr (is_map)
                (*this)[element.first] = Json(element.second);
            else
                push_back(Json(static_cast<typename Elements::value_type>(element)));
        }
    }

    static Json array(std::initializer_list<Json> elements = {});
    static Json object();

    bool is_null() const;
    bool is_boolean() const;
    bool is_integer() const;
    bool is_float() const;
    bool is_number() const { return is_integer() || is_float(); }
    bool is_string() const;
    bool is_array() const;
    bool is_object() const;
    bool is_structured() const { return is_array() || is_object(); }

    // Json, bool, an integer or floating-point type, std::string, or a vector, an array or a map by string of
    // these. Integers are read as floating-point numbers too, not the other way round.
    template <class T>
    T get() const;

    // Elements of an array, members of an object; 0 of null, 1 of all else.
    std::size_t size() const;
    bool empty() const { return size() == 0; }

    // Of an array.
    void push_back(Json element);
    template <std::integral Index>
    const Json& at(Index index) const {
        return element(static_cast<std::size_t>(index));
    }
    template <std::integral Index>
    const Json& operator[](Index index) const {
        return element(static_cast<std::size_t>(index));
    }
    template <std::integral Index>
    Json& operator[](Index index) {
        return const_cast<Json&>(element(static_cast<std::size_t>(index)));
    }
    const Json& front() const { return element(0); }
    const Json& back() const { return element(size() - 1); }
    Json& back() { return const_cast<Json&>(element(size() - 1)); }
    // The elements of an array; none of anything else.
    Array::const_iterator begin() const;
    Array::const_iterator end() const;

    // Of an object. Null becomes an object when a member is written.
    bool contains(std::string_view key) const { return find(key) != nullptr; }
    const Json* find(std::string_view key) const;  // null when it is not there
    const Json& at(std::string_view key) const;
    const Json& operator[](std::string_view key) const { return at(key); }
    Json& operator[](std::string_view key);
    template <class T>
    T value(std::string_view key, const T& otherwise) const {
        const Json* member = find(key);
        return member != nullptr ? member->get<T>() : otherwise;
    }
    std::string value(std::string_view key, const char* otherwise) const {
        return value(key, std::string(otherwise));
    }
    void erase(std::string_view key);
    // Takes over the members of another object, replacing those of the same key.
    void update(const Json& other);
    // The members of an object; none of anything else.
    const Object& items() const;

    // Integers and floating-point numbers are compared by value.
    friend bool operator==(const Json& a, const Json& b);
    // Of two numbers; of anything else: neither.
    friend std::partial_ordering operator<=>(const Json& a, const Json& b);
    friend std::ostream& operator<<(std::ostream& stream, const Json& json);

  private:
    using Value = std::variant<std::nullptr_t, bool, std::int64_t, double, std::string, Array, Object>;
    explicit Json(Value value);
    // Defined where Member is complete: constructors need it.
    void set(bool value);
    void set(std::int64_t value);
    void set(double value);
    void set_empty(bool object);
    [[noreturn]] void refuse(const char* wanted) const;
    const Json& element(std::size_t index) const;
    bool boolean() const;
    std::int64_t integer(std::int64_t lowest, std::uint64_t highest) const;
    double number() const;
    const std::string& text() const;
    const Array& elements() const;
    const Object& members() const;

    Value value_;
};

struct Json::Member {
    std::string key;
    Json value;
    friend bool operator==(const Member&, const Member&) = default;
};

template <class T>
T Json::get() const {
    if constexpr (std::same_as<T, Json>) {
        return *this;
    } else if constexpr (std::same_as<T, bool>) {
        return boolean();
    } else if constexpr (std::integral<T>) {
        using Limits = std::numeric_limits<T>;
        return static_cast<T>(integer(static_cast<std::int64_t>(Limits::min()), Limits::max()));
    } else if constexpr (std::floating_point<T>) {
        return static_cast<T>(number());
    } else if constexpr (std::same_as<T, std::string>) {
        return text();
    } else if constexpr (requires { typename T::mapped_type; }) {
        T result;
        for (const auto& [key, value] : members())
            result[key] = value.template get<typename T::mapped_type>();
        return result;
    } else if constexpr (requires { std::tuple_size<T>::value; }) {
        T result;
        if (elements().size() != result.size()) refuse("an array of another length");
        for (std::size_t i = 0; i < result.size(); ++i)
            result[i] = element(i).template get<typename T::value_type>();
        return result;
    } else {
        T result;
        for (const Json& element : elements())
            result.push_back(element.template get<typename T::value_type>());
        return result;
    }
}

// Null when the text is not JSON or is nested more than 1,000 deep.
Json parse_json(std::string_view text);

// For what comes from outside: InputError names the place ("epochs.jsonl:3") and what is wrong there when the
// text is not JSON, an object has a key twice or more than 1,000 keys, or values are nested more than 32
// deep.
Json read_json(std::string_view text, const std::string& place);

// Bytes that are not UTF-8 become the replacement character; a number that is NaN or infinite becomes null.
// indent: spaces per level; -1 for one line.
std::string json_text(const Json& json, int indent = -1);

}  // namespace jevrin::inline v1
