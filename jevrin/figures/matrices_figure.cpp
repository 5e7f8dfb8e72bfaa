#include "jevrin/figures/matrices_figure.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/figures/matrix_drawing.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

// Around zero: orange below, white, blue above; both ends differ from each other with every kind of colour
// blindness.
const char* const diverging =
    "set palette defined (-1 '#a44a00', -0.5 '#e08a3c', -0.1 '#f6d9bd', 0 '#ffffff', 0.1 '#c9dff0', 0.5 "
    "'#4f94c9', "
    "1 '#0a4a80')\n";

// Classes that either confuses stand together. Shares become counts of a thousand for that.
std::vector<std::size_t> order_of(const CellFractions& fractions) {
    ConfusionMatrix weights(fractions.size());
    constexpr double scale = 1000.0;
    for (std::size_t i = 0; i < fractions.size(); ++i)
        for (std::size_t j = 0; j < fractions.size(); ++j)
            weights.add(i, j, std::llround(std::abs(fractions[i][j]) * scale));
    return display_order(weights);
}

CellFractions in_order(const CellFractions& fractions, const std::vector<std::size_t>& order) {
    CellFractions result = fractions;
    for (std::size_t i = 0; i < order.size(); ++i)
        for (std::size_t j = 0; j < order.size(); ++j) result[i][j] = fractions[order[i]][order[j]];
    return result;
}

// Frames around cells, as rectangles in the coordinates of the matrix.
std::string frames(const MatrixDifference& difference, const std::vector<std::size_t>& order) {
    std::vector<std::size_t> place(order.size());
    for (std::size_t p = 0; p < order.size(); ++p) place[order[p]] = p;
    std::string objects;
    int number = 1;
    for (const CellDifference& cell : difference.cells) {
        if (!cell.beyond_chance) continue;
        const auto x = static_cast<double>(place[cell.predicted]);
        const auto y = static_cast<double>(place[cell.true_class]);
        objects += fmt::format(
            "set object {} rectangle from {},{} to {},{} front fillstyle empty border lc rgb '#101010' lw "
            "1.8\n",
            number++, x - 0.48, y - 0.48, x + 0.48, y + 0.48);
    }
    return objects;
}

std::string with_sign(double value) {
    return std::abs(value) < 0.005 ? "0" : fmt::format("{:+.2f}", value);
}

std::string figures_in_cells(const CellFractions& fractions, double full) {
    std::string labels;
    const std::size_t n = fractions.size();
    const int size = n <= 10 ? 12 : 7;
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = 0; j < n; ++j) {
            if (std::abs(fractions[i][j]) < 0.005) continue;
            const std::string text =
                n <= 10 ? with_sign(fractions[i][j]) : fmt::format("{:+.0f}", 100.0 * fractions[i][j]);
            labels += fmt::format(
                "set label '{}' at {},{} center front font 'DejaVu Sans,{}' textcolor rgb '{}'\n", text, j, i,
                size, std::abs(fractions[i][j]) > 0.55 * full ? "#ffffff" : "#202020");
        }
    return labels;
}

// A list beside the matrix, line by line.
class SideList {
  public:
    SideList(double x, const std::string& head) : x_(x) { line(head, 12, "#202020"); }

    void line(const std::string& text, int size, const std::string& colour) {
        labels_ += fmt::format(
            "set label {} at screen {},{:.3f} left front font 'DejaVu Sans,{}' textcolor rgb '{}'\n",
            gnuplot_string(text), x_, y_, size, colour);
        y_ -= 0.026;
    }
    bool is_full() const { return y_ < 0.12; }
    const std::string& labels() const { return labels_; }

  private:
    double x_;
    double y_ = 0.88;
    std::string labels_;
};

std::string gains_list(const MatrixDifference& difference, const std::vector<std::string>& classes,
                       double x) {
    SideList list(x, "difference in recall (items), 95 % interval");
    for (const ClassGain& gain : difference.gains) {
        if (list.is_full()) break;
        list.line(fmt::format("{}{} ({}) {} [{:+.2f}, {:+.2f}]", gain.beyond_chance ? "\u25a3 " : "   ",
                              shortened_name(classes.at(gain.true_class), 20), gain.items,
                              with_sign(gain.gain()), gain.interval.low, gain.interval.high),
                  9, gain.beyond_chance ? "#101010" : "#606060");
    }
    return list.labels();
}

std::string cells_list(const MatrixDifference& difference, const std::vector<std::string>& classes,
                       double x) {
    SideList list(x, "largest differences");
    for (const CellDifference& cell : difference.cells) {
        if (list.is_full()) break;
        list.line(fmt::format("{}{} \u2192 {} {}", cell.beyond_chance ? "\u25a3 " : "   ",
                              shortened_name(classes.at(cell.true_class), 16),
                              shortened_name(classes.at(cell.predicted), 16), with_sign(cell.difference())),
                  9, cell.beyond_chance ? "#101010" : "#606060");
    }
    return list.labels();
}

struct MatrixView {
    std::string palette;
    std::string scale_title;
    std::string labels;   // in cells and beside
    std::string objects;  // frames
    std::string note;
};

void draw_matrix(const CellFractions& shown, const std::vector<std::string>& classes,
                 const std::vector<std::size_t>& order, const MatrixView& view, const std::string& title,
                 const std::filesystem::path& file) {
    const std::size_t n = shown.size();
    constexpr std::size_t most_names = 48;
    const std::string tics = class_tics(classes, order, most_names);
    draw_figure(
        fmt::format(R"(
{}
{}
set label {} at screen 0.5,0.965 center font 'DejaVu Sans,14'
set xrange [-0.5:{}]
set yrange [{}:-0.5]
set xtics ({}) rotate by {} scale 0 font 'DejaVu Sans,{}'
set ytics ({}) scale 0 font 'DejaVu Sans,{}'
set xlabel 'predicted'
set ylabel 'true'
set cblabel {}
set lmargin at screen 0.17
set rmargin at screen 0.615
set tmargin at screen 0.92
set bmargin at screen 0.255
set colorbox user origin screen 0.63,0.255 size screen 0.014,0.665
set label {} at screen 0.03,0.025 textcolor rgb '#555555' font 'DejaVu Sans,10'
{}
{}
unset key
plot $cells using 1:2:3 with image pixels
)",
                    shade_data("$cells", shown), view.palette, gnuplot_string(shortened_name(title, 120)),
                    static_cast<double>(n) - 0.5, static_cast<double>(n) - 0.5, tics, n <= 12 ? -35 : -90,
                    n <= 12 ? 11 : 8, tics, n <= 12 ? 11 : 8, gnuplot_string(view.scale_title),
                    gnuplot_string(view.note), view.labels, view.objects),
        file, 1280, 860);
}

std::vector<std::size_t> hardest_first(const RecallTable& table) {
    std::vector<std::size_t> order;
    for (std::size_t c = 0; c < table.items.size(); ++c)
        if (table.items[c] > 0) order.push_back(c);
    const auto mean = [&](std::size_t c) {
        return std::accumulate(table.recalls[c].begin(), table.recalls[c].end(), 0.0);
    };
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return mean(a) < mean(b); });
    return order;
}

}  // namespace

void draw_difference(const MatrixDifference& difference, const std::vector<std::string>& classes,
                     const std::string& title, const std::filesystem::path& file) {
    const bool large = classes.size() > most_with_figures;
    const std::vector<std::size_t> order = order_of(difference.difference);
    const CellFractions shown = in_order(difference.difference, order);
    double full = 0.1;
    for (const auto& row : shown)
        for (const double value : row) full = std::max(full, std::abs(value));
    const std::string note =
        difference.seeds < fewest_seeds
            ? "with fewer than three seeds no difference is tested for significance"
            : "\u25a3 and framed: significant, corrected for the number of cells (or classes) compared";
    draw_matrix(
        shown, classes, order,
        {.palette = fmt::format("{}set cbrange [{}:{}]\n", diverging, -full, full),
         .scale_title = classes.size() > 10 && !large
                            ? "difference of fractions of the true class (in cells: points of 100)"
                            : "difference of fractions of the true class",
         .labels = (large ? std::string() : figures_in_cells(shown, full)) +
                   (large ? cells_list(difference, classes, 0.74) : gains_list(difference, classes, 0.74)),
         .objects = frames(difference, order),
         .note = note},
        title, file);
}

void draw_spread(const MatrixSpread& spread, const std::vector<std::string>& classes,
                 const std::string& title, const std::filesystem::path& file) {
    const std::size_t n = classes.size();
    const std::vector<std::size_t> order = order_of(spread.mean);
    const CellFractions shown = in_order(spread.mean, order);
    const CellFractions deviation = in_order(spread.deviation, order);
    std::string labels;
    if (n <= most_with_figures)
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t j = 0; j < n; ++j) {
                if (shown[i][j] < 0.005) continue;
                const char* const colour = shown[i][j] > 0.55 ? "#ffffff" : "#202020";
                labels += fmt::format(
                    "set label '{}' at {},{} center front font 'DejaVu Sans,{}' textcolor rgb '{}'\n",
                    n <= 10 ? fmt::format("{:.2f}", shown[i][j]) : fmt::format("{:.0f}", 100.0 * shown[i][j]),
                    j, static_cast<double>(i) - (n <= 10 ? 0.12 : 0.0), n <= 10 ? 12 : 7, colour);
                if (n <= 10)
                    labels += fmt::format(
                        "set label {} at {},{} center front font 'DejaVu Sans,9' textcolor "
                        "rgb '{}'\n",
                        gnuplot_string(fmt::format("\u00b1{:.2f}", deviation[i][j])), j,
                        static_cast<double>(i) + 0.2, colour);
            }
    SideList list(0.74, "cells with the largest standard deviation");
    struct Cell {
        std::size_t row = 0;
        std::size_t column = 0;
    };
    std::vector<Cell> cells;
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = 0; j < n; ++j)
            if (spread.deviation[i][j] >= 0.005) cells.push_back({i, j});
    std::stable_sort(cells.begin(), cells.end(), [&](const Cell& a, const Cell& b) {
        return spread.deviation[a.row][a.column] > spread.deviation[b.row][b.column];
    });
    if (cells.empty()) list.line("none: all runs agree", 9, "#606060");
    for (const Cell& cell : cells) {
        if (list.is_full()) break;
        list.line(fmt::format("{} \u2192 {} {:.2f} \u00b1 {:.2f}", shortened_name(classes.at(cell.row), 16),
                              shortened_name(classes.at(cell.column), 16), spread.mean[cell.row][cell.column],
                              spread.deviation[cell.row][cell.column]),
                  9, "#303030");
    }
    draw_matrix(shown, classes, order,
                {.palette = share_palette,
                 .scale_title = n > 10 && n <= most_with_figures ? "fraction of the true class (in cells: %)"
                                                                 : "fraction of the true class",
                 .labels = labels + list.labels(),
                 .objects = "",
                 .note = fmt::format("mean of {} runs, and its standard deviation over them", spread.runs)},
                title, file);
}

void draw_recalls(const RecallTable& table, const std::vector<std::string>& classes,
                  const CandidateStyles& styles, const std::string& title,
                  const std::filesystem::path& file) {
    constexpr std::size_t most_classes = 60;
    constexpr std::size_t most_candidates = 40;
    std::vector<std::size_t> order = hardest_first(table);
    const std::size_t all = order.size();
    order.resize(std::min(order.size(), most_classes));
    const std::size_t columns = std::min(table.candidates.size(), most_candidates);
    std::string data = "$cells << EOD\n";
    std::string labels;
    std::string rows;
    std::string heads;
    const int size = order.size() <= 12 && columns <= 10 ? 12 : 7;
    for (std::size_t r = 0; r < order.size(); ++r) {
        rows += fmt::format("{}{} {}", r == 0 ? "" : ", ",
                            gnuplot_tic(fmt::format("{} ({})", shortened_name(classes.at(order[r]), 24),
                                                    table.items[order[r]])),
                            r);
        for (std::size_t c = 0; c < columns; ++c) {
            const double recall = table.recalls[order[r]][c];
            data += fmt::format("{} {} {}\n", c, r, std::isnan(recall) ? "NaN" : fmt::format("{}", recall));
            if (!std::isnan(recall))
                labels += fmt::format(
                    "set label '{}' at {},{} center front font 'DejaVu Sans,{}' textcolor rgb '{}'\n",
                    columns > 20 ? fmt::format("{:.0f}", 100.0 * recall) : fmt::format("{:.2f}", recall), c,
                    r, size, recall > 0.55 ? "#ffffff" : "#202020");
        }
    }
    for (std::size_t c = 0; c < columns; ++c)
        heads += fmt::format("{}{} {}", c == 0 ? "" : ", ",
                             gnuplot_tic(shortened_name(table.candidates[c], 30) + " (" +
                                         styles.letter(table.candidates[c]) + ")"),
                             c);
    std::string more;
    if (all > order.size()) more += fmt::format(", the {} hardest of {} classes", order.size(), all);
    if (table.candidates.size() > columns)
        more += fmt::format(", the first {} of {} candidates", columns, table.candidates.size());
    const int row = order.size() <= 12 ? 46 : order.size() <= 30 ? 24 : 17;
    draw_figure(
        fmt::format(R"(
{}EOD
{}
set title {} font 'DejaVu Sans,14'
set xrange [-0.5:{}]
set yrange [{}:-0.5]
set xtics ({}) rotate by -35 scale 0 font 'DejaVu Sans,{}'
set ytics ({}) scale 0 font 'DejaVu Sans,{}'
set cblabel 'recall, mean over seeds'
set lmargin at screen 0.2
set rmargin at screen 0.86
set bmargin at screen {:.3f}
{}
unset key
plot $cells using 1:2:3 with image pixels
)",
                    data, share_palette, gnuplot_string(title + more), static_cast<double>(columns) - 0.5,
                    static_cast<double>(order.size()) - 0.5, heads, columns <= 12 ? 10 : 7, rows,
                    order.size() <= 30 ? 11 : 8,
                    190.0 / (270.0 + row * static_cast<double>(std::max<std::size_t>(order.size(), 4))),
                    labels),
        file, 1280, 270 + row * static_cast<int>(std::max<std::size_t>(order.size(), 4)));
}

}  // namespace jevrin::inline v1
