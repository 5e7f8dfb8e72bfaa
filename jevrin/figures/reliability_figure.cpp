#include "jevrin/figures/reliability_figure.hpp"

#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/metrics/intervals.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {

void draw_reliability(std::span<const ReliabilityBin> bins, const std::string& title,
                      const std::filesystem::path& file) {
    std::string points;
    std::string counts;
    std::int64_t most = 1;
    for (const ReliabilityBin& bin : bins) {
        counts += fmt::format("{} {} {}\n", (bin.low + bin.high) / 2, bin.items, bin.high - bin.low);
        most = std::max(most, bin.items);
        if (bin.items == 0) continue;
        const Interval interval = wilson_interval(bin.correct, bin.items);
        points += fmt::format("{} {} {} {}\n", bin.confidence, bin.accuracy(), interval.low, interval.high);
    }
    // Without any item a figure is still drawn.
    if (points.empty()) points = "NaN NaN NaN NaN\n";
    draw_figure(fmt::format(R"(
$points << EOD
{}EOD
$counts << EOD
{}EOD
set multiplot title {} font 'DejaVu Sans,14'
set lmargin at screen 0.12
set rmargin at screen 0.95
set xrange [0:1]
set border 3
set tics nomirror
set grid back linecolor rgb '#e4e4e4'
set tmargin at screen 0.90
set bmargin at screen 0.38
set yrange [0:1]
set ylabel 'accuracy'
set format x ''
set key right bottom samplen 2 spacing 1.3
plot x with lines dashtype 2 linecolor rgb '#909090' title 'perfectly calibrated', \
     $points using 1:2:3:4 with yerrorbars linewidth 1.5 linecolor rgb '#0072b2' pointtype 7 pointsize 1.4 title 'items of a bin, with the 95 % interval'
set tmargin at screen 0.32
set bmargin at screen 0.12
set yrange [0:*]
set format x '%.1f'
set xlabel 'confidence: probability of the predicted class'
set ylabel 'items'
set ytics (0, {})
unset key
set style fill solid 0.8 noborder
plot $counts using 1:2:($3*0.94) with boxes linecolor rgb '#9db8c6'
unset multiplot
)",
                            points, counts, gnuplot_string(title), most),
                file, 900, 800);
}

}  // namespace jevrin::inline v1
