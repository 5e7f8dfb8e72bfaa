#include "jevrin/results/confusion_text.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/metrics/scores.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

std::string name_cut(const std::vector<std::string>& classes, std::size_t one) {
    return shortened_name(classes.at(one), 24);
}

}  // namespace

std::vector<std::vector<double>> cell_values(const ConfusionMatrix& matrix, CellValue value) {
    const std::size_t n = matrix.classes();
    std::vector<double> rows(n, 0.0);
    std::vector<double> columns(n, 0.0);
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = 0; j < n; ++j) {
            rows[i] += static_cast<double>(matrix.at(i, j));
            columns[j] += static_cast<double>(matrix.at(i, j));
        }
    std::vector<std::vector<double>> values(n, std::vector<double>(n, 0.0));
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = 0; j < n; ++j) {
            const double whole = value == CellValue::of_true        ? rows[i]
                                 : value == CellValue::of_predicted ? columns[j]
                                                                    : 1.0;
            if (whole > 0.0) values[i][j] = static_cast<double>(matrix.at(i, j)) / whole;
        }
    return values;
}

std::string spoken_cell(double value, CellValue kind) {
    return kind == CellValue::counts ? fmt::format("{}", value) : fmt::format("{:.2f}", value);
}

std::string terminal_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                               std::size_t width, CellValue value) {
    std::size_t name_width = 4;
    std::size_t cell = 5;
    for (std::size_t c = 0; c < classes.size(); ++c) {
        name_width = std::max(name_width, display_width(name_cut(classes, c)));
        cell = std::max(cell, std::min<std::size_t>(10, display_width(name_cut(classes, c))) + 1);
    }
    constexpr std::size_t scores_width = 20;
    if (name_width + matrix.classes() * (cell + 1) + scores_width > std::max<std::size_t>(width, 100)) {
        constexpr std::size_t most = 20;
        std::string text =
            fmt::format("{} classes do not fit the terminal; the largest cells are\n", matrix.classes());
        for (const Confusion& confusion : strongest_confusions(matrix, most))
            text += fmt::format("  {} predicted as {}: {} of {}\n", name_cut(classes, confusion.true_class),
                                name_cut(classes, confusion.predicted), confusion.count, confusion.support);
        return text;
    }
    const auto values = cell_values(matrix, value);
    std::string text = fmt::format("{}  predicted\n{}", padded("true", name_width), padded("", name_width));
    for (const std::string& name : classes) {
        const std::string head = shortened_text(name, cell - 1);
        text += std::string(cell - display_width(head) + 1, ' ') + head;
    }
    text += "   recall  precision\n";
    for (std::size_t i = 0; i < matrix.classes(); ++i) {
        text += padded(name_cut(classes, i), name_width);
        for (std::size_t j = 0; j < matrix.classes(); ++j)
            text +=
                fmt::format(" {:>{}}", matrix.at(i, j) == 0 ? "." : spoken_cell(values[i][j], value), cell);
        text += fmt::format("   {:6.3f}  {:9.3f}\n", matrix.recall(i), matrix.precision(i));
    }
    return text;
}

ResultTable matrix_table(const std::vector<std::vector<double>>& values,
                         const std::vector<std::string>& classes) {
    std::vector<TableColumn> columns = {{.key = "true", .head = "true"}};
    for (const std::string& name : classes)
        columns.push_back({.key = name, .head = shortened_text(name, 12), .align = Align::right});
    ResultTable table(std::move(columns));
    for (std::size_t i = 0; i < values.size(); ++i) {
        std::vector<TableCell> cells = {name_cell(classes.at(i), 24)};
        for (const double value : values[i]) cells.push_back(decimal_cell(value));
        table.add(std::move(cells));
    }
    return table;
}

}  // namespace jevrin::inline v1
