#include "jevrin/results/words.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>

namespace jevrin::inline v1 {

std::string with_commas(std::int64_t value) {
    std::string digits = std::to_string(value);
    for (std::ptrdiff_t place = static_cast<std::ptrdiff_t>(digits.size()) - 3; place > (value < 0 ? 1 : 0);
         place -= 3)
        digits.insert(static_cast<std::size_t>(place), ",");
    return digits;
}

std::string plural(std::int64_t count, const std::string& word) {
    return fmt::format("{} {}{}", with_commas(count), word, count == 1 ? "" : "s");
}

std::string three_decimals(double value) {
    return std::isnan(value) ? "" : fmt::format("{:.3f}", value);
}

std::string shell_word(const std::string& word) {
    const bool plain = !word.empty() && std::all_of(word.begin(), word.end(), [](char c) {
        return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '/' || c == '-' || c == '_' ||
               c == '.';
    });
    if (plain) return word;
    std::string text = "'";
    for (const char c : printable(word)) text += c == '\'' ? std::string("'\\''") : std::string(1, c);
    return text + "'";
}

}  // namespace jevrin::inline v1
