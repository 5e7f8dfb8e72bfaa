// The values of an enumeration by name: one table for each, one lookup in each direction.
//
//     const EnumNames<Regime>& names_of(Regime) {
//         static const EnumNames<Regime> names("regime", {{Regime::scratch, "scratch"}, ...});
//         return names;
//     }
//     name_of(Regime::frozen)              // "frozen"
//     value_named<Regime>("frozn")         // InputError: regime is 'frozn' (did you mean 'frozen'?); it may
//     be ...
#pragma once

#include <cstddef>
#include <initializer_list>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

// A value of an enumeration that the code does not know: a programming mistake, never a quiet default.
// Throws std::logic_error.
[[noreturn]] void throw_unhandled(long long value);
template <typename Enum>
[[noreturn]] void unhandled(Enum value) {
    throw_unhandled(static_cast<long long>(value));
}

namespace detail {
// The place of a name among others; InputError names what it may be.
std::size_t find_name(std::string_view what, const std::vector<std::string>& names, std::string_view name);
}  // namespace detail

template <typename Enum>
class EnumNames {
  public:
    // what is what a value is called in messages: "regime".
    EnumNames(std::string what, std::initializer_list<std::pair<Enum, const char*>> pairs)
        : what_(std::move(what)) {
        for (const auto& [value, name] : pairs) {
            values_.push_back(value);
            names_.emplace_back(name);
        }
    }

    // An earlier name of a value, which old files may still hold.
    EnumNames& was(Enum value, std::string former) {
        former_.emplace_back(value, std::move(former));
        return *this;
    }

    const std::string& what() const { return what_; }
    const std::vector<std::string>& names() const { return names_; }
    const std::vector<Enum>& values() const { return values_; }
    const std::string& name(Enum value) const {
        for (std::size_t i = 0; i < values_.size(); ++i)
            if (values_[i] == value) return names_[i];
        unhandled(value);
    }
    Enum value(std::string_view name) const {
        for (const auto& [value, former] : former_)
            if (former == name) return value;
        return values_[detail::find_name(what_, names_, name)];
    }

  private:
    std::string what_;
    std::vector<Enum> values_;
    std::vector<std::string> names_;
    std::vector<std::pair<Enum, std::string>> former_;
};

// Found by argument: names_of(Enum) stands beside each enumeration.
template <typename Enum>
const std::string& name_of(Enum value) {
    return names_of(value).name(value);
}
// InputError lists the names, and the nearest one.
template <typename Enum>
Enum value_named(std::string_view name) {
    return names_of(Enum{}).value(name);
}

}  // namespace jevrin::inline v1
