#include "jevrin/figures/pairs_figure.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_compared = 40;
constexpr std::size_t most_with_numbers = 12;

const char* colour_of(Verdict verdict) {
    switch (verdict) {
        case Verdict::better:
            return "#7fb6c4";
        case Verdict::equivalent:
            return "#d7e8b8";
        case Verdict::unknown:
            return "#eeeeee";
    }
    unhandled(verdict);
}

// A filled cell, and its numbers.
std::string cell(const PairVerdict& pair, std::size_t number, bool with_numbers) {
    std::string text = fmt::format(
        "set object {} rectangle from {},{} to {},{} fillcolor rgb '{}' fillstyle solid border lc rgb "
        "'#ffffff'\n",
        number, static_cast<double>(pair.second) - 0.5, static_cast<double>(pair.first) - 0.5,
        static_cast<double>(pair.second) + 0.5, static_cast<double>(pair.first) + 0.5,
        colour_of(pair.verdict));
    if (!with_numbers || !pair.lead) return text;
    return text +
           fmt::format(
               "set label {0} '{3:.3f}' at {1},{2} center offset 0,0.45 font 'DejaVu Sans,9' front\n"
               "set label {4} '{5:.3f} to {6:.3f}' at {1},{2} center offset 0,-0.55 font 'DejaVu Sans,7' "
               "textcolor rgb '#444444' front\n",
               2 * number, pair.second, pair.first, pair.lead->mean, 2 * number + 1, pair.lead->interval.low,
               pair.lead->interval.high);
}

}  // namespace

void draw_pairs(const Choice& choice, const CandidateStyles& styles, const std::string& title,
                const std::filesystem::path& file) {
    const std::size_t count = std::min(choice.ranking.size(), most_compared);
    if (count < 2) throw InputError("there is only one candidate, so there are no pairs to draw");
    std::string cells;
    std::size_t number = 1;
    for (const PairVerdict& pair : choice.pairs)
        if (pair.second < count) cells += cell(pair, number++, count <= most_with_numbers);
    std::string rows;
    std::string columns;
    for (std::size_t k = 0; k < count; ++k) {
        const std::string& name = choice.ranking[k].candidate;
        const std::string letter = styles.letter(name);
        rows += fmt::format("{}{} {}", k == 0 ? "" : ", ",
                            gnuplot_tic(shortened_name(name, 36) + " (" + letter + ")"), k);
        columns += fmt::format("{}{} {}", k == 0 ? "" : ", ", gnuplot_tic(letter), k);
    }
    const std::string more = choice.ranking.size() > count ? fmt::format(" (the first {} of {} candidates)",
                                                                         count, choice.ranking.size())
                                                           : "";
    const int height = std::max(480, 150 + (count <= most_with_numbers ? 48 : 20) * static_cast<int>(count));
    draw_figure(fmt::format(
                    R"(
set title {} font 'DejaVu Sans,14'
set border 0
set tics scale 0 textcolor rgb '#333333'
unset key
{}
set xrange [0.4:{}]
set yrange [{}:-0.6]
set lmargin at screen 0.25
set rmargin at screen 0.98
set bmargin at screen {}
set ytics ({}) font 'DejaVu Sans,{}'
set xtics ({}) font 'DejaVu Sans,{}'
set xlabel {}
plot NaN notitle
)",
                    gnuplot_string(title + more), cells, static_cast<double>(count) - 0.4,
                    static_cast<double>(count) - 1.4, 90.0 / height, rows, count <= 16 ? 10 : 8, columns,
                    count <= 16 ? 10 : 8,
                    gnuplot_string(fmt::format("row over column: blue the row is better (p < 0.05, corrected "
                                               "for {} pairs), green equivalent within "
                                               "{:.3f}, grey unknown",
                                               choice.pairs.size(), choice.margin))),
                file, 1280, height);
}

}  // namespace jevrin::inline v1
