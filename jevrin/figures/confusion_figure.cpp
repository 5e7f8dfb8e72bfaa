#include "jevrin/figures/confusion_figure.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin {
namespace {

constexpr std::size_t longest_name = 24;

std::string short_name(const std::string& name) {
    const std::string safe = printable(name);
    return display_width(safe) <= longest_name ? safe : padded(safe, longest_name);
}

}  // namespace

void draw_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                    const std::string& title, const std::filesystem::path& file) {
    const std::size_t n = matrix.classes();
    std::string data = "$cells << EOD\n";
    std::string labels;
    // Figures fit into the cells up to this many classes.
    const bool figures = n <= 30;
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = 0; j < n; ++j) {
            const std::int64_t support = matrix.support(i);
            const double share =
                support == 0 ? 0.0 : static_cast<double>(matrix.at(i, j)) / static_cast<double>(support);
            data += fmt::format("{} {} {}\n", j, i, share);
            if (figures)
                labels += fmt::format(
                    "set label '{}' at {},{} center front textcolor rgb '{}' font 'DejaVu Sans,{}'\n",
                    matrix.at(i, j), j, i,
                    share > 0.55           ? "#ffffff"
                    : matrix.at(i, j) == 0 ? "#b8b8b8"
                                           : "#202020",
                    n <= 10 ? 14 : 8);
        }
    std::string tics;
    for (std::size_t c = 0; c < n; ++c)
        tics += fmt::format("{}{} {}", c == 0 ? "" : ", ", gnuplot_string(short_name(classes.at(c))), c);
    const std::string script = fmt::format(R"(
{}EOD
set title {} font 'DejaVu Sans,14'
set xrange [-0.5:{}]
set yrange [{}:-0.5]
set xtics ({}) rotate by -35 scale 0
set ytics ({}) scale 0
set xlabel 'predicted'
set ylabel 'true'
set cblabel 'share of the true class'
set cbrange [0:1]
set palette defined (0 '#ffffff', 0.05 '#e6eff2', 0.5 '#5d9aa8', 1 '#123c4a')
set size ratio 1
set rmargin 12
set bmargin 7
unset key
{}
plot $cells using 1:2:3 with image
)",
                                           data, gnuplot_string(title), static_cast<double>(n) - 0.5,
                                           static_cast<double>(n) - 0.5, tics, tics, labels);
    draw_figure(script, file, 980, 800);
}

std::string terminal_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes) {
    std::size_t name_width = 4;
    std::size_t cell = 5;
    for (const std::string& name : classes) {
        name_width = std::max(name_width, display_width(short_name(name)));
        cell = std::max(cell, std::min<std::size_t>(10, display_width(short_name(name))) + 1);
    }
    std::string text = fmt::format("{}  predicted\n{}", padded("true", name_width), padded("", name_width));
    for (const std::string& name : classes) {
        const std::string head = padded(printable(name), std::min(cell - 1, display_width(printable(name))));
        text += std::string(cell - display_width(head) + 1, ' ') + head;
    }
    text += "   recall  precision\n";
    for (std::size_t i = 0; i < matrix.classes(); ++i) {
        text += padded(short_name(classes[i]), name_width);
        for (std::size_t j = 0; j < matrix.classes(); ++j) {
            const std::string count = matrix.at(i, j) == 0 ? "." : std::to_string(matrix.at(i, j));
            text += fmt::format(" {:>{}}", count, cell);
        }
        text += fmt::format("   {:6.3f}  {:9.3f}\n", matrix.recall(i), matrix.precision(i));
    }
    return text;
}

}  // namespace jevrin
