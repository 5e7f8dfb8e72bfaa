#include "jevrin/figures/confusion_figure.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/figures/matrix_drawing.hpp"
#include "jevrin/metrics/class_order.hpp"
#include "jevrin/metrics/scores.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

std::string cell_figures(const ConfusionMatrix& matrix, const std::vector<std::vector<double>>& fractions,
                         CellValue value) {
    const auto values = cell_values(matrix, value);
    const std::size_t n = matrix.classes();
    const int size = n <= 10 ? 14 : 8;
    std::string labels;
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = 0; j < n; ++j) {
            // Among many cells the empty ones are told by being empty.
            if (n > 10 && matrix.at(i, j) == 0) continue;
            labels +=
                fmt::format("set label '{}' at {},{} center front textcolor rgb '{}' font 'DejaVu Sans,{}'\n",
                            spoken_cell(values[i][j], value), j, i,
                            fractions[i][j] > 0.55 ? "#ffffff"
                            : matrix.at(i, j) == 0 ? "#b8b8b8"
                                                   : "#202020",
                            size);
        }
    return labels;
}

// The fullest cells, written beside the matrix.
std::string listed_cells(const ConfusionMatrix& matrix, const std::vector<std::string>& classes) {
    constexpr std::size_t most = 16;
    std::string labels = "set label 'most confused' at screen 0.70,0.88 left front font 'DejaVu Sans,12'\n";
    double y = 0.85;
    for (const Confusion& cell : strongest_confusions(matrix, most)) {
        labels += fmt::format(
            "set label {} at screen 0.70,{:.3f} left front font 'DejaVu Sans,9'\n",
            gnuplot_string(fmt::format("{} \u2192 {}", shortened_name(classes.at(cell.true_class), 18),
                                       shortened_name(classes.at(cell.predicted), 18))),
            y -= 0.022);
        labels += fmt::format(
            "set label '{} of {}' at screen 0.715,{:.3f} left front font 'DejaVu Sans,9' textcolor rgb "
            "'#707070'\n",
            cell.count, cell.support, y -= 0.020);
    }
    return labels;
}

std::string scale_title(CellValue value, std::size_t classes) {
    if (classes > most_with_figures) return "";
    return fmt::format("fraction of the {} class{}", value == CellValue::of_predicted ? "predicted" : "true",
                       value != CellValue::counts && classes > 10 ? " (in cells: %)" : "");
}

}  // namespace

void draw_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                    const std::string& title, const std::filesystem::path& file, CellValue value) {
    const std::size_t n = matrix.classes();
    const bool large = n > most_with_figures;
    const std::vector<std::size_t> order = display_order(matrix);
    const ConfusionMatrix shown = reordered(matrix, order);
    const auto fractions =
        cell_values(shown, value == CellValue::of_predicted ? CellValue::of_predicted : CellValue::of_true);
    constexpr std::size_t most_names = 48;
    const std::string tics = class_tics(classes, order, most_names);
    const std::string script = fmt::format(
        R"(
{}
{}
set title {} font 'DejaVu Sans,14'
set xrange [-0.5:{}]
set yrange [{}:-0.5]
set xtics ({}) rotate by {} scale 0 font 'DejaVu Sans,{}'
set ytics ({}) scale 0 font 'DejaVu Sans,{}'
set xlabel 'predicted'
set ylabel 'true'
set cblabel '{}'
{}
{}
unset key
plot $cells using 1:2:3 with image pixels
)",
        shade_data("$cells", fractions), share_palette, gnuplot_string(title), static_cast<double>(n) - 0.5,
        static_cast<double>(n) - 0.5, tics, n <= 12 ? -35 : -90, n <= 12 ? 11 : 8, tics, n <= 12 ? 11 : 8,
        scale_title(value, n),
        // Cells stay square; a large matrix leaves room for the list.
        large ? "set lmargin at screen 0.17\nset rmargin at screen 0.615\nset tmargin at screen 0.91\n"
                "set bmargin at screen 0.245\n"
                "set colorbox user origin screen 0.63,0.245 size screen 0.014,0.665"
              : "set size ratio 1\nset rmargin 12\nset bmargin 9",
        large ? listed_cells(matrix, classes) : cell_figures(shown, fractions, value));
    draw_figure(script, file, large ? 1280 : 980, large ? 860 : 800);
}

void draw_confusion_strip(const std::vector<ConfusionFrame>& frames, const std::vector<std::string>& classes,
                          const std::string& title, const std::filesystem::path& file) {
    const std::size_t count = std::max<std::size_t>(1, frames.size());
    const std::size_t columns = std::min<std::size_t>(4, count);
    const std::size_t rows = (count + columns - 1) / columns;
    // The order of the last one, so that a cell keeps its place.
    const std::vector<std::size_t> order =
        frames.empty() ? std::vector<std::size_t>() : display_order(frames.back().matrix);
    const bool named = order.size() <= 12;
    std::string data;
    std::string plots;
    for (std::size_t k = 0; k < frames.size(); ++k) {
        data += shade_data(fmt::format("$frame{}", k),
                           cell_values(reordered(frames[k].matrix, order), CellValue::of_true));
        // Names stand at the left of the first column alone.
        const bool first = k % columns == 0;
        plots += fmt::format("set title {} font 'DejaVu Sans,11'\n", gnuplot_string(frames[k].label));
        plots += named && first ? fmt::format("set ytics ({}) scale 0 font 'DejaVu Sans,9'\n",
                                              class_tics(classes, order, order.size()))
                                : std::string("unset ytics\n");
        plots += fmt::format("plot $frame{} using 1:2:3 with image pixels\n", k);
    }
    const double last = static_cast<double>(order.size()) - 0.5;
    draw_figure(fmt::format(R"(
{}
{}
set multiplot layout {},{} title {} font 'DejaVu Sans,14' margins {},0.97,0.05,0.88 spacing 0.03,0.09
set xrange [-0.5:{}]
set yrange [{}:-0.5]
unset xtics
unset key
unset colorbox
set size square
{}
unset multiplot
)",
                            data, share_palette, rows, columns, gnuplot_string(title), named ? 0.16 : 0.04,
                            last, last, plots),
                file, 1280, 110 + static_cast<int>(rows) * 290);
}

}  // namespace jevrin::inline v1
