#include "jevrin/results/candidate_styles.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

namespace jevrin::inline v1 {
namespace {

// A colour blended with white (255) or black (0).
std::string blended(const std::string& colour, int with, double fraction) {
    const long code = std::strtol(colour.c_str() + 1, nullptr, 16);
    std::string result = "#";
    for (const int shift : {16, 8, 0}) {
        const auto part = static_cast<double>((code >> shift) & 0xff);
        result += fmt::format("{:02x}", static_cast<int>(part + (with - part) * fraction));
    }
    return result;
}

}  // namespace

std::string series_colour(std::size_t index) {
    static const char* const colours[series_colours] = {"#0072b2", "#d55e00", "#009e73", "#cc79a7",
                                                        "#e69f00", "#56b4e9", "#444444", "#8a6d00"};
    return colours[index % series_colours];
}

std::size_t CandidateStyles::place_of(const std::string& candidate) const {
    return static_cast<std::size_t>(std::find(candidates_.begin(), candidates_.end(), candidate) -
                                    candidates_.begin());
}

std::string CandidateStyles::letter(const std::string& candidate) const {
    const std::size_t place = place_of(candidate);
    const std::string last(1, static_cast<char>('a' + place % 26));
    return place < 26 ? last : std::string(1, static_cast<char>('a' + (place / 26 - 1) % 26)) + last;
}

std::string CandidateStyles::colour(const std::string& candidate) const {
    const std::size_t place = place_of(candidate);
    const std::string base = series_colour(place);
    const std::size_t shade = place / series_colours % 3;
    return shade == 0 ? base : shade == 1 ? blended(base, 255, 0.45) : blended(base, 0, 0.4);
}

}  // namespace jevrin::inline v1
