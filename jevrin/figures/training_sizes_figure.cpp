#include "jevrin/figures/training_sizes_figure.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/figures/regime_mark.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <sstream>

namespace jevrin::inline v1 {

void draw_training_sizes(const TrainingSizeReport& report, Metric metric, const CandidateStyles& styles,
                         const std::string& title, const std::filesystem::path& file) {
    std::string data;
    std::string plots;
    std::set<std::int64_t> sizes;
    for (std::size_t k = 0; k < report.curves.size(); ++k) {
        const TrainingSizeCurve& curve = report.curves[k];
        data += fmt::format("$c{} << EOD\n", k);
        for (const TrainingSizePoint& point : curve.points) {
            const Interval interval = point.interval.value_or(Interval{point.mean, point.mean});
            data += fmt::format("{} {} {} {} 0x{}\n", point.training_items, point.mean, interval.low,
                                interval.high, styles.colour(point.candidate).substr(1));
            sizes.insert(point.training_items);
        }
        data += "EOD\n";
        const int mark = regime_mark(curve.regime);
        plots += fmt::format(
            "{}$c{} using 1:2 with linespoints lw 2.4 pt {} ps 1.5 lc rgb '{}' title {}, \\\n"
            "  $c{} using 1:2:3:4:5 with yerrorbars lw 1.2 pt {} ps 1.5 lc rgb variable notitle",
            k == 0 ? "plot " : ", \\\n  ", k, mark, styles.colour(curve.points.back().candidate),
            gnuplot_string(shortened_name(curve.name, 40)), k, mark);
    }
    std::string tics;
    for (const std::int64_t size : sizes) tics += fmt::format("{}{}", tics.empty() ? "" : ", ", size);
    std::string words;
    double y = 0.105;
    const auto write_line = [&](const std::string& text) {
        constexpr double lowest = 0.01;
        std::istringstream lines(wrapped(text, 165));
        for (std::string line; y >= lowest && std::getline(lines, line); y -= 0.028)
            words += fmt::format(
                "set label {} at screen 0.03,{:.3f} left font 'DejaVu Sans,10' textcolor rgb '#404040'\n",
                gnuplot_string(shortened_text(line, 170)), y);
    };
    for (const CatchUp& one : report.catch_ups) {
        // Extrapolations are on a line of their own.
        const std::size_t cut = one.words.find("; ");
        write_line(one.words.substr(0, cut));
        if (cut != std::string::npos) write_line("    " + one.words.substr(cut + 2));
    }
    draw_figure(
        fmt::format(R"(
{}
set title {} font 'DejaVu Sans,14'
set border 3 lc rgb '#666666'
set tics nomirror textcolor rgb '#333333'
set grid lc rgb '#e4e4e4' lt 1
set logscale x 2
set xtics ({})
set offsets graph 0.04, graph 0.04, graph 0.06, graph 0.04
set xlabel 'training items'
set ylabel {}
set key bottom right
set bmargin at screen 0.20
set lmargin at screen 0.08
set rmargin at screen 0.97
{}
{}
)",
                    data, gnuplot_string(title), tics,
                    gnuplot_string(spoken_metric(metric) + ", 95 % interval over seeds"), words, plots),
        file, 1280, 760);
}

}  // namespace jevrin::inline v1
