#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <utf8proc.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstdint>
#include <cstdlib>
#include <memory>
#include <numeric>
#include <vector>

namespace jevrin::inline v1 {
namespace {

struct CodePoint {
    std::uint32_t value = 0;
    std::size_t length = 0;  // bytes; 0 when the bytes are not UTF-8
};

CodePoint decode_utf8(std::string_view text) {
    const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
    const unsigned char first = byte(0);
    if (first < 0x80) return {first, 1};
    const std::size_t length = first >= 0xF0 ? 4 : first >= 0xE0 ? 3 : first >= 0xC2 ? 2 : 0;
    if (length == 0 || first > 0xF4 || text.size() < length) return {};
    std::uint32_t value = first & (0x7FU >> length);
    for (std::size_t i = 1; i < length; ++i) {
        if ((byte(i) & 0xC0U) != 0x80) return {};
        value = (value << 6) | (byte(i) & 0x3FU);
    }
    constexpr std::uint32_t smallest[] = {0, 0, 0x80, 0x800, 0x10000};
    if (value < smallest[length] || value > 0x10FFFF || (value >= 0xD800 && value < 0xE000)) return {};
    return {value, length};
}

// C0 and C1 controls, and the marks that turn the direction of writing.
bool is_control(std::uint32_t c) {
    return c < 0x20 || (c >= 0x7F && c < 0xA0) || (c >= 0x200E && c <= 0x200F) ||
           (c >= 0x2028 && c <= 0x202E) || (c >= 0x2066 && c <= 0x2069);
}

// Columns in a terminal: none for marks that combine, two for wide characters.
std::size_t columns_of(std::uint32_t c) {
    if ((c >= 0x200B && c <= 0x200D) || (c >= 0xFE00 && c <= 0xFE0F)) return 0;
    return static_cast<std::size_t>(std::max(0, utf8proc_charwidth(static_cast<utf8proc_int32_t>(c))));
}

std::size_t edit_distance(std::string_view a, std::string_view b) {
    std::vector<std::size_t> row(b.size() + 1);
    std::iota(row.begin(), row.end(), std::size_t{0});
    for (std::size_t i = 0; i < a.size(); ++i) {
        std::size_t diagonal = row[0]++;
        for (std::size_t j = 0; j < b.size(); ++j) {
            const std::size_t changed = diagonal + (a[i] == b[j] ? 0 : 1);
            diagonal = row[j + 1];
            row[j + 1] = std::min({row[j] + 1, diagonal + 1, changed});
        }
    }
    return row[b.size()];
}

}  // namespace

std::string printable(std::string_view text) {
    std::string result;
    for (std::size_t i = 0; i < text.size();) {
        const CodePoint point = decode_utf8(text.substr(i));
        const std::size_t length = std::max<std::size_t>(point.length, 1);
        if (point.length == 0 || is_control(point.value)) {
            for (std::size_t k = 0; k < length; ++k)
                result += fmt::format("\\x{:02x}", static_cast<unsigned char>(text[i + k]));
        } else {
            result += text.substr(i, length);
        }
        i += length;
    }
    return result;
}

std::size_t display_width(std::string_view text) {
    std::size_t width = 0;
    for (std::size_t i = 0; i < text.size();) {
        const CodePoint point = decode_utf8(text.substr(i));
        width += point.length == 0 ? 1 : columns_of(point.value);
        i += std::max<std::size_t>(point.length, 1);
    }
    return width;
}

std::string padded(std::string_view text, std::size_t width) {
    const std::size_t wide = display_width(text);
    if (wide <= width) return std::string(text) + std::string(width - wide, ' ');
    if (width == 0) return "";
    std::string result;
    std::size_t taken = 0;
    for (std::size_t i = 0; i < text.size();) {
        const std::size_t length = std::max<std::size_t>(decode_utf8(text.substr(i)).length, 1);
        const std::size_t columns = display_width(text.substr(i, length));
        if (taken + columns + 1 > width) break;
        result += text.substr(i, length);
        taken += columns;
        i += length;
    }
    return result + "…" + std::string(width - taken - 1, ' ');
}

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

std::string percent(double fraction) {
    if (fraction > 0.0 && fraction < 0.005) return "<1 %";
    if (fraction < 1.0 && fraction >= 0.995) return ">99 %";
    return fmt::format("{:.0f} %", std::round(100.0 * fraction));
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

std::string two_digits(double value) {
    const double size = std::abs(value);
    if (size == 0.0) return "0";
    // The number of digits after the point, of the value as it is rounded.
    int decimals = std::clamp(1 - static_cast<int>(std::floor(std::log10(size))), 0, 6);
    if (decimals > 0 && std::round(size * std::pow(10.0, decimals)) >= 100.0) --decimals;
    return fmt::format("{:.{}f}", value, decimals);
}

std::string spoken_seconds(double seconds) {
    if (seconds < 0.0995) return two_digits(1000.0 * seconds) + " ms";
    const auto whole = static_cast<std::int64_t>(seconds + 0.5);
    if (whole < 60) return two_digits(seconds) + " s";
    if (whole < 3600) return fmt::format("{} min {} s", whole / 60, whole % 60);
    return fmt::format("{} h {} min", whole / 3600, whole % 3600 / 60);
}

std::string shortened_text(std::string_view text, std::size_t width) {
    const std::string safe = printable(text);
    return display_width(safe) <= width ? safe : padded(safe, width);
}

std::string wrapped(const std::string& text, std::size_t width) {
    std::string result;
    std::string line;
    std::size_t begin = 0;
    while (begin < text.size()) {
        const std::size_t end = std::min(text.find(' ', begin), text.size());
        const std::string word = text.substr(begin, end - begin);
        if (!line.empty() && display_width(line) + 1 + display_width(word) > width) {
            result += line + "\n";
            line.clear();
        }
        line += (line.empty() ? "" : " ") + word;
        begin = end + 1;
    }
    return line.empty() ? result : result + line + "\n";
}

std::string shortened_name(std::string_view text, std::size_t width) {
    const std::string safe = printable(text);
    if (display_width(safe) <= width || width < 3) return shortened_text(text, width);
    const std::size_t head = (width - 1) / 2;
    // padded() ends what it cuts in "…".
    std::size_t begin = safe.size();
    while (begin > 0) {
        std::size_t before = begin - 1;
        while (before > 0 && (static_cast<unsigned char>(safe[before]) & 0xc0) == 0x80) --before;
        if (display_width(std::string_view(safe).substr(before)) > width - 1 - head) break;
        begin = before;
    }
    return padded(safe, head + 1) + safe.substr(begin);
}

std::string nearest_word(std::string_view word, std::span<const std::string> candidates) {
    std::string best;
    std::size_t best_distance = word.size() / 3 + 2;
    for (const std::string& candidate : candidates) {
        const std::size_t distance = edit_distance(folded_case(word), folded_case(candidate));
        if (distance < best_distance) {
            best_distance = distance;
            best = candidate;
        }
    }
    return best;
}

std::string did_you_mean(std::string_view word, std::span<const std::string> candidates) {
    const std::string nearest = nearest_word(word, candidates);
    return nearest.empty() ? "" : fmt::format(" (did you mean '{}'?)", printable(nearest));
}

std::string folded_case(std::string_view text) {
    std::string result(text);
    std::transform(result.begin(), result.end(), result.begin(),
                   [](unsigned char c) { return static_cast<char>(c < 0x80 ? std::tolower(c) : c); });
    return result;
}

std::string folded_form(std::string_view text) {
    utf8proc_uint8_t* folded = nullptr;
    constexpr auto options = static_cast<utf8proc_option_t>(
        UTF8PROC_STABLE | UTF8PROC_COMPOSE | UTF8PROC_COMPAT | UTF8PROC_CASEFOLD | UTF8PROC_IGNORE);
    const auto length = utf8proc_map(reinterpret_cast<const utf8proc_uint8_t*>(text.data()),
                                     static_cast<utf8proc_ssize_t>(text.size()), &folded, options);
    const std::unique_ptr<utf8proc_uint8_t, decltype(&std::free)> owned(folded, std::free);
    if (length < 0) return std::string(text);
    return {reinterpret_cast<const char*>(folded), static_cast<std::size_t>(length)};
}

std::string spoken_bytes(std::int64_t bytes) {
    const auto value = static_cast<double>(bytes);
    if (value < 1e6) return fmt::format("{:.0f} kB", value / 1e3);
    return value < 1e9 ? fmt::format("{:.1f} MB", value / 1e6) : fmt::format("{:.2f} GB", value / 1e9);
}

}  // namespace jevrin::inline v1
