#include "jevrin/figures/equal_effort_figure.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/figures/regime_mark.hpp"
#include "jevrin/results/candidate_styles.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {

void draw_equal_effort(const Choice& choice, const std::string& title, const std::filesystem::path& file) {
    if (choice.equal_effort.empty())
        throw InputError(
            "effort can be compared between regimes, of which at least one has several variants; these "
            "candidates have none");
    std::string data;
    std::string plots;
    std::size_t most = 1;
    for (std::size_t k = 0; k < choice.equal_effort.size(); ++k) {
        const EffortCurve& curve = choice.equal_effort[k];
        most = std::max(most, curve.expected_best.size());
        data += fmt::format("$c{} << EOD\n", k);
        for (std::size_t n = 0; n < curve.expected_best.size(); ++n)
            data += fmt::format("{} {}\n", n + 1, curve.expected_best[n]);
        data += "EOD\n";
        plots += fmt::format("{}$c{} using 1:2 with linespoints lw 2.2 pt {} ps 1.5 lc rgb '{}' title {}",
                             k == 0 ? "plot " : ", \\\n  ", k, regime_mark(curve.regime), series_colour(k),
                             gnuplot_string(fmt::format("{} ({})", name_of(curve.regime),
                                                        plural(std::ssize(curve.expected_best), "variant"))));
    }
    draw_figure(fmt::format(
                    R"(
{}
set title {} font 'DejaVu Sans,14'
set border 3 lc rgb '#666666'
set tics nomirror textcolor rgb '#333333'
set grid xtics ytics lc rgb '#e8e8e8' lt 1
set key outside right top
set xrange [0.7:{}]
set xtics {}
set offsets 0,0,graph 0.08,graph 0.08
set xlabel 'variants tried'
set ylabel {}
{}
)",
                    data, gnuplot_string(title), static_cast<double>(most) + 0.3, most <= 20 ? "1" : "auto",
                    gnuplot_string("expected best " + spoken_metric(choice.metric)), plots),
                file, 1280, 620);
}

}  // namespace jevrin::inline v1
