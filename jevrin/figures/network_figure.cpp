#include "jevrin/figures/network_figure.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t rows_wanted = 17;   // of a column
constexpr std::size_t longest_text = 46;  // of a line in a box
constexpr double box_width = 0.82;        // of a column
constexpr double box_height = 0.8;        // of a row
constexpr int column_pixels = 320;

struct LayerPlace {
    std::size_t column = 0;
    std::size_t row = 0;
};

// Columns of about equal length; a stage begins a new column when the one before is nearly full.
std::vector<LayerPlace> arrange(const std::vector<LayerRow>& layers, std::size_t& columns,
                                std::size_t& rows) {
    const std::size_t wanted = (layers.size() + rows_wanted - 1) / rows_wanted;
    const std::size_t length = (layers.size() + wanted - 1) / std::max<std::size_t>(1, wanted);
    std::vector<LayerPlace> places;
    LayerPlace next;
    for (std::size_t i = 0; i < layers.size(); ++i) {
        const bool new_stage = i > 0 && layers[i].stage != layers[i - 1].stage;
        if (wanted > 1 &&
            (next.row > length || (new_stage && next.row + 3 > length && i + 3 < layers.size())))
            next = {next.column + 1, 0};
        places.push_back(next);
        rows = std::max(rows, next.row + 1);
        ++next.row;
    }
    columns = next.column + 1;
    return places;
}

std::string spoken_count(std::int64_t count) {
    if (count >= 10'000'000) return fmt::format("{} M", count / 1'000'000);
    if (count >= 10'000) return fmt::format("{} k", count / 1000);
    return std::to_string(count);
}

}  // namespace

void draw_network(const std::vector<LayerRow>& layers, const std::string& title,
                  const std::filesystem::path& file) {
    std::size_t columns = 1;
    std::size_t rows = 1;
    const std::vector<LayerPlace> places = arrange(layers, columns, rows);
    const double half = box_width / 2;
    const auto x = [&](std::size_t i) { return static_cast<double>(places[i].column) + 0.5; };
    const auto y = [&](std::size_t i) { return static_cast<double>(places[i].row) + 0.5; };
    std::string marks;
    const auto line = [&](double x1, double y1, double x2, double y2, const char* style) {
        marks += fmt::format("set arrow from {:.4f},{:.4f} to {:.4f},{:.4f} {}\n", x1, y1, x2, y2, style);
    };
    for (std::size_t i = 0; i < layers.size(); ++i) {
        const LayerRow& layer = layers[i];
        const bool weighted = layer.parameters > 0;
        marks += fmt::format(
            "set object rectangle from {:.4f},{:.4f} to {:.4f},{:.4f} fillcolor rgb '{}' fillstyle solid "
            "border rgb '{}' behind\n",
            x(i) - half, y(i) - box_height / 2, x(i) + half, y(i) + box_height / 2,
            !weighted      ? "#ffffff"
            : layer.trains ? "#ffd8a8"
                           : "#dfe4ea",
            layer.trains ? "#c05a00" : "#7d8794");
        const char* const ink = layer.trains ? "#202020" : "#4a525c";
        marks += fmt::format(
            "set label {} at {:.4f},{:.4f} center front textcolor rgb '{}' font "
            "'DejaVu Sans Bold,8'\n",
            gnuplot_string(shortened_name(layer.name, longest_text)), x(i), y(i) - 0.24, ink);
        marks += fmt::format(
            "set label {} at {:.4f},{:.4f} center front textcolor rgb '{}' font "
            "'DejaVu Sans,7'\n",
            gnuplot_string(shortened_text(layer.operators, longest_text)), x(i), y(i) + 0.02, ink);
        const std::string facts = weighted ? fmt::format("{}   {} parameters", to_string(layer.shape),
                                                         spoken_count(layer.parameters))
                                           : to_string(layer.shape);
        marks += fmt::format(
            "set label {} at {:.4f},{:.4f} center front textcolor rgb '{}' font "
            "'DejaVu Sans,7'\n",
            gnuplot_string(facts), x(i), y(i) + 0.24, ink);
        const bool reads_previous =
            i > 0 && std::find(layer.reads.begin(), layer.reads.end(), i - 1) != layer.reads.end();
        if (reads_previous && places[i].column == places[i - 1].column)
            line(x(i), y(i - 1) + box_height / 2, x(i), y(i) - box_height / 2, "nohead lc rgb '#707070'");
        else if (reads_previous) {
            // From the foot of one column to the head of the next.
            const double between = static_cast<double>(places[i].column);
            line(x(i - 1), y(i - 1) + box_height / 2, x(i - 1), y(i - 1) + 0.5, "nohead lc rgb '#707070'");
            line(x(i - 1), y(i - 1) + 0.5, between, y(i - 1) + 0.5, "nohead lc rgb '#707070'");
            line(between, y(i - 1) + 0.5, between, 0.0, "nohead lc rgb '#707070'");
            line(between, 0.0, x(i), 0.0, "nohead lc rgb '#707070'");
            line(x(i), 0.0, x(i), y(i) - box_height / 2, "nohead lc rgb '#707070'");
        }
        // What skips layers goes round on the right, inside one column; from another it is named.
        std::vector<std::size_t> seen;
        for (const std::size_t from : layer.reads) {
            if (from + 1 == i || std::find(seen.begin(), seen.end(), from) != seen.end()) continue;
            seen.push_back(from);
            const double side = x(i) + half + 0.02 + 0.02 * static_cast<double>(from % 4);
            if (places[from].column == places[i].column) {
                line(x(from) + half, y(from) + 0.15, side, y(from) + 0.15, "nohead lc rgb '#3b6ea5'");
                line(side, y(from) + 0.15, side, y(i) - 0.15, "nohead lc rgb '#3b6ea5'");
                line(side, y(i) - 0.15, x(i) + half, y(i) - 0.15, "lc rgb '#3b6ea5' size 0.015,20 filled");
            } else {
                marks += fmt::format(
                    "set label {} at {:.4f},{:.4f} right front textcolor rgb '#3b6ea5' font "
                    "'DejaVu Sans,6'\n",
                    gnuplot_string("+ " + shortened_name(layers[from].name, longest_text)),
                    x(i) + half - 0.01, y(i) - 0.46);
            }
        }
    }
    // A single column is no wider than it needs to be.
    const double beside = std::max(0.0, (2.5 - static_cast<double>(columns)) / 2);
    const std::string script = fmt::format(
        R"(
set title {} font 'DejaVu Sans,13'
unset key
unset border
unset tics
set xrange [{}:{}]
set yrange [{}:-0.2]
set lmargin 1
set rmargin 1
set tmargin 3
set bmargin 2
{}set label 'coloured: trains    grey: frozen    white: no weights    blue lines: values that skip layers' at graph 0.5,-0.015 center font 'DejaVu Sans,9'
plot NaN
)",
        gnuplot_string(title), -beside, static_cast<double>(columns) + beside, rows, marks);
    const int width = std::max(1280, static_cast<int>(columns) * column_pixels);
    draw_figure(script, file, width, std::max(560, static_cast<int>(rows) * 50 + 80));
}

}  // namespace jevrin::inline v1
