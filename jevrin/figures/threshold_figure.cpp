#include "jevrin/figures/threshold_figure.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/results/candidate_styles.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_coloured = 8;
constexpr std::size_t most_drawn = 60;
constexpr std::size_t longest_curve_name = 22;
// More points than pixels draw nothing more.
constexpr std::size_t most_points = 1000;

// The places of at most so many of `count` points, the last one among them.
std::vector<std::size_t> thinned(std::size_t count) {
    std::vector<std::size_t> places;
    const std::size_t step = std::max<std::size_t>(1, count / most_points);
    for (std::size_t i = 0; i < count; i += step) places.push_back(i);
    if (count > 0 && places.back() != count - 1) places.push_back(count - 1);
    return places;
}

// recall, precision, false positive rate.
std::string curve_block(std::size_t place, const ThresholdCurve& curve) {
    std::string data = fmt::format("$curve{} << EOD\n", place);
    // ROC curves begin where nothing is taken; precision has no value there.
    data += "0 NaN 0\n";
    for (const std::size_t i : thinned(curve.points.size())) {
        const ThresholdPoint& point = curve.points[i];
        data += fmt::format("{} {} {}\n", curve.recall(point), curve.precision(point),
                            curve.false_positive_rate(point));
    }
    return data + "EOD\n";
}

std::string colour_of(std::size_t place, std::size_t count) {
    return count > most_coloured && place >= most_coloured ? "#c8c8c8" : series_colour(place);
}

// Plots columns of all curves, the coloured ones over the grey ones.
std::string curve_plots(std::size_t count, const char* columns) {
    std::string plots;
    for (std::size_t k = count; k-- > 0;)
        plots += fmt::format(", \\\n  $curve{} using {} with lines linewidth {} linecolor rgb '{}' notitle",
                             k, columns, k < most_coloured ? 2 : 1, colour_of(k, count));
    return plots;
}

// The names of the coloured ones under the panels, each in its colour; gnuplot's own key must fit one panel.
std::string curve_names(const std::vector<NamedCurve>& curves, std::size_t count) {
    constexpr std::size_t columns = 4;
    std::string labels;
    for (std::size_t k = 0; k < std::min(count, most_coloured); ++k)
        labels += fmt::format(
            "set label {} at screen {:.3f},{:.3f} left front textcolor rgb '{}' font 'DejaVu Sans,11'\n",
            gnuplot_string("\u25a0 " + shortened_name(curves[k].name, longest_curve_name)),
            0.08 + 0.23 * static_cast<double>(k % columns), k < columns ? 0.105 : 0.055, colour_of(k, count));
    return labels;
}

// The chosen points as rings: x, y.
std::string rings(const std::vector<std::pair<double, double>>& points, const std::string& block) {
    std::string data = block + " << EOD\n";
    for (const auto& [x, y] : points) data += fmt::format("{} {}\n", x, y);
    return data + (points.empty() ? "NaN NaN\n" : "") + "EOD\n";
}

}  // namespace

void draw_thresholds(const std::vector<NamedCurve>& curves, const std::vector<CoveragePoint>& coverage,
                     const std::optional<CoveragePoint>& chosen, const std::string& title,
                     const std::filesystem::path& file) {
    const std::size_t count = std::min(curves.size(), most_drawn);
    std::string data;
    std::vector<std::pair<double, double>> on_precision;
    std::vector<std::pair<double, double>> on_roc;
    for (std::size_t k = 0; k < count; ++k) {
        const ThresholdCurve& curve = curves[k].curve;
        data += curve_block(k, curve);
        if (const auto& point = curves[k].chosen) {
            on_precision.emplace_back(curve.recall(*point), curve.precision(*point));
            on_roc.emplace_back(curve.false_positive_rate(*point), curve.recall(*point));
        }
    }
    const auto items = static_cast<double>(coverage.empty() ? 1 : coverage.back().answered);
    data += "$coverage << EOD\n";
    for (const std::size_t i : thinned(coverage.size()))
        data += fmt::format("{} {} {}\n", static_cast<double>(coverage[i].answered) / items,
                            coverage[i].accuracy(), coverage[i].threshold);
    data += "EOD\n";
    std::vector<std::pair<double, double>> on_coverage;
    if (chosen) on_coverage.emplace_back(static_cast<double>(chosen->answered) / items, chosen->accuracy());
    data += rings(on_precision, "$rings0") + rings(on_roc, "$rings1") + rings(on_coverage, "$rings2");
    const char* const ring =
        "with points pointtype 6 pointsize 2.2 linewidth 2 linecolor rgb '#202020' notitle";
    draw_figure(fmt::format(R"(
{0}
set multiplot title {1} font 'DejaVu Sans,14'
set border 3
set tics nomirror
set grid back linecolor rgb '#ececec'
set xrange [0:1]
set yrange [0:1.02]
set tmargin at screen 0.88
set bmargin at screen 0.27
set lmargin at screen 0.06
set rmargin at screen 0.33
unset key
set title 'precision and recall'
set xlabel 'recall'
set ylabel 'precision' offset 1,0
plot NaN notitle{2}, $rings0 using 1:2 {4}
set lmargin at screen 0.39
set rmargin at screen 0.66
set title 'ROC'
{5}set xlabel 'false positive rate'
set ylabel 'recall (true positive rate)' offset 1,0
plot x with lines dashtype 2 linecolor rgb '#a0a0a0' notitle{3}, $rings1 using 1:2 {4}
unset label
set lmargin at screen 0.72
set rmargin at screen 0.985
set title 'answering only when sure'
set xlabel 'share of the items that is answered'
set ylabel 'accuracy, and the threshold (dashed)' offset 1,0
plot $coverage using 1:2 with lines linewidth 2 linecolor rgb '#202020', \
     $coverage using 1:3 with lines dashtype 2 linecolor rgb '#909090', $rings2 using 1:2 {4}
unset multiplot
)",
                            data, gnuplot_string(title), curve_plots(count, "1:2"), curve_plots(count, "3:1"),
                            ring, curve_names(curves, count)),
                file, 1280, 580);
}

}  // namespace jevrin::inline v1
