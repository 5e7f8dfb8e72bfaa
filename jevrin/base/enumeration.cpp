#include "jevrin/base/enumeration.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <stdexcept>

namespace jevrin::inline v1 {

void throw_unhandled(long long value) {
    throw std::logic_error(fmt::format("the value {} of an enumeration is not handled here", value));
}

namespace detail {

namespace {

// "a", "a or b", "a, b or c".
std::string listed(const std::vector<std::string>& names) {
    if (names.size() < 2) return names.empty() ? "" : names[0];
    return fmt::format("{} or {}", fmt::join(names.begin(), names.end() - 1, ", "), names.back());
}

}  // namespace

std::size_t find_name(std::string_view what, const std::vector<std::string>& names, std::string_view name) {
    const auto found = std::find(names.begin(), names.end(), name);
    if (found != names.end()) return static_cast<std::size_t>(found - names.begin());
    throw InputError(fmt::format("{} is '{}'{}; it may be {}", what, printable(name),
                                 did_you_mean(std::string(name), names), listed(names)));
}

}  // namespace detail

}  // namespace jevrin::inline v1
