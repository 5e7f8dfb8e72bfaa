#include "jevrin/figures/classes_figure.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_classes = 60;
constexpr std::size_t longest_class_name = 28;

}  // namespace

void draw_classes(const std::vector<ClassScores>& scores, const std::vector<std::string>& classes,
                  const std::vector<std::size_t>& order, const std::string& title,
                  const std::filesystem::path& file) {
    const std::size_t count = std::min(order.size(), most_classes);
    std::string recalls;
    std::string precisions;
    std::string tics;
    for (std::size_t k = 0; k < count; ++k) {
        const ClassScores& own = scores[order[k]];
        const auto y = static_cast<double>(k);
        if (own.support > 0)
            recalls += fmt::format("{} {} {} {}\n", own.recall, y - 0.13, own.recall_interval.low,
                                   own.recall_interval.high);
        if (own.true_positives + own.false_positives > 0)
            precisions += fmt::format("{} {} {} {}\n", own.precision, y + 0.13, own.precision_interval.low,
                                      own.precision_interval.high);
        tics += fmt::format(
            "{}{} {}", k == 0 ? "" : ", ",
            gnuplot_tic(fmt::format("{} ({})", shortened_name(classes.at(order[k]), longest_class_name),
                                    own.support)),
            k);
    }
    const std::string more =
        order.size() > count ? fmt::format(" (the first {} of {} classes)", count, order.size()) : "";
    const int row = count <= 12 ? 46 : count <= 30 ? 24 : 18;
    draw_figure(
        fmt::format(R"(
$recalls << EOD
{}EOD
$precisions << EOD
{}EOD
set title {} font 'DejaVu Sans,14'
set xrange [0:1]
set yrange [{}:-0.8]
set ytics ({}) scale 0 font 'DejaVu Sans,{}'
set xtics 0.1 nomirror
set border 1
set grid xtics ytics back linecolor rgb '#ececec'
set key outside top center horizontal samplen 2
set bmargin 4
set xlabel 'share, with its 95 % interval'
set bars 0.5
plot $recalls using 1:2:3:4 with xerrorbars linewidth 1.6 linecolor rgb '#0072b2' pointtype 7 pointsize 1 title 'recall: found of its items', \
     $precisions using 1:2:3:4 with xerrorbars linewidth 1.6 linecolor rgb '#d55e00' pointtype 5 pointsize 0.9 title 'precision'
)",
                    recalls.empty() ? "NaN NaN NaN NaN\n" : recalls,
                    precisions.empty() ? "NaN NaN NaN NaN\n" : precisions, gnuplot_string(title + more),
                    static_cast<double>(count) - 0.2, tics, count <= 30 ? 11 : 9),
        file, 1100, 190 + row * static_cast<int>(std::max<std::size_t>(count, 3)));
}

}  // namespace jevrin::inline v1
