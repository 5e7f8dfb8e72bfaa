#include "jevrin/results/result_table.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/words.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {

TableCell name_cell(const std::string& name, std::size_t width) {
    return {shortened(name, width), name};
}

TableCell decimal_cell(double value, int decimals) {
    if (std::isnan(value)) return "";
    return {fmt::format("{:.{}f}", value, decimals), fmt::format("{}", value)};
}

TableCell count_cell(std::int64_t value) {
    return {with_commas(value), std::to_string(value)};
}

ResultTable::ResultTable(const std::vector<std::string>& heads, const std::vector<std::size_t>& right) {
    for (const std::string& head : heads)
        columns_.push_back({.key = {}, .head = head, .place = TableColumn::Place::text});
    for (const std::size_t column : right) columns_.at(column).align = Align::right;
}

void ResultTable::add(std::vector<TableCell> cells) {
    rows_.push_back(std::move(cells));
}

std::string ResultTable::text(std::size_t most) const {
    const std::size_t count = std::min(most, rows_.size());
    std::vector<std::size_t> shown;
    std::vector<std::size_t> widths;
    for (std::size_t c = 0; c < columns_.size(); ++c) {
        if (columns_[c].place == TableColumn::Place::csv) continue;
        std::size_t width = display_width(columns_[c].head);
        for (std::size_t r = 0; r < count; ++r) width = std::max(width, display_width(rows_[r][c].shown));
        shown.push_back(c);
        widths.push_back(width);
    }
    const auto line_of = [&](const auto& cell) {
        std::string line;
        for (std::size_t k = 0; k < shown.size(); ++k) {
            const std::string& text = cell(shown[k]);
            const std::string space(widths[k] - display_width(text), ' ');
            const bool right = columns_[shown[k]].align == Align::right;
            line += (k == 0 ? "" : "  ") + (right ? space + text : text + space);
        }
        line.erase(line.find_last_not_of(' ') + 1);
        return line + "\n";
    };
    std::string text = line_of([&](std::size_t c) -> const std::string& { return columns_[c].head; });
    for (std::size_t r = 0; r < count; ++r)
        text += line_of([&](std::size_t c) -> const std::string& { return rows_[r][c].shown; });
    return text;
}

std::string ResultTable::csv() const {
    std::vector<std::string> cells;
    for (const TableColumn& column : columns_)
        if (column.place != TableColumn::Place::text) cells.push_back(column.key);
    return csv_row(cells) + csv_rows();
}

std::string ResultTable::csv_rows() const {
    std::string text;
    for (const auto& row : rows_) {
        std::vector<std::string> cells;
        for (std::size_t c = 0; c < columns_.size(); ++c)
            if (columns_[c].place != TableColumn::Place::text) cells.push_back(row[c].exact);
        text += csv_row(cells);
    }
    return text;
}

}  // namespace jevrin::inline v1
