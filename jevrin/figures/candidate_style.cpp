#include "jevrin/figures/candidate_style.hpp"

#include "jevrin/figures/gnuplot.hpp"

#include <fmt/format.h>

#include <cstdlib>

namespace jevrin::inline v1 {
namespace {

// A colour on its way to white (255) or black (0).
std::string mixed(const std::string& colour, int towards, double share) {
    const long code = std::strtol(colour.c_str() + 1, nullptr, 16);
    std::string result = "#";
    for (const int shift : {16, 8, 0}) {
        const auto part = static_cast<double>((code >> shift) & 0xff);
        result += fmt::format("{:02x}", static_cast<int>(part + (towards - part) * share));
    }
    return result;
}

}  // namespace

std::string CandidateStyles::colour(const std::string& candidate) const {
    const std::size_t place = place_of(candidate);
    const std::string base = series_colour(place);
    const std::size_t shade = place / series_colours % 3;
    return shade == 0 ? base : shade == 1 ? mixed(base, 255, 0.45) : mixed(base, 0, 0.4);
}

int regime_mark(Regime regime) {
    switch (regime) {
        case Regime::scratch:
            return 9;
        case Regime::frozen:
            return 7;
        case Regime::partial:
            return 5;
    }
    unhandled(regime);
}

std::string regime_sign(Regime regime) {
    switch (regime) {
        case Regime::scratch:
            return "\u25b2";
        case Regime::frozen:
            return "\u25cf";
        case Regime::partial:
            return "\u25a0";
    }
    unhandled(regime);
}

}  // namespace jevrin::inline v1
