#include "jevrin/results/result_table.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

namespace jevrin::inline v1 {

TableCell name_cell(const std::string& name, std::size_t width) {
    return {shortened_name(name, width), name};
}

TableCell text_cell(const std::string& text, std::size_t width) {
    return {shortened_text(text, width), text};
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

std::string ResultTable::text(std::size_t width, std::size_t most) const {
    const std::size_t count = std::min(most, rows_.size());
    constexpr std::size_t gap = 2;
    constexpr std::size_t narrowest_name = 16;
    struct Shown {
        std::size_t column;
        std::size_t width;
    };
    std::vector<Shown> shown;
    std::size_t total = 0;
    for (std::size_t c = 0; c < columns_.size(); ++c) {
        if (columns_[c].place == TableColumn::Place::csv) continue;
        std::size_t widest = display_width(columns_[c].head);
        for (std::size_t r = 0; r < count; ++r) widest = std::max(widest, display_width(rows_[r][c].shown));
        shown.push_back({c, widest});
        total += widest + (shown.size() > 1 ? gap : 0);
    }
    std::set<std::size_t> missing;
    const auto leave_out = [&](std::vector<Shown>::iterator which) {
        total -= which->width + gap;
        missing.insert(which->column);
        shown.erase(which);
    };
    while (total > width && shown.size() > 1) {
        const auto first = std::max_element(shown.begin(), shown.end(), [&](const Shown& a, const Shown& b) {
            return columns_[a.column].optional < columns_[b.column].optional;
        });
        if (columns_[first->column].optional == 0) break;
        leave_out(first);
    }
    if (total > width && shown.front().width > narrowest_name) {
        const std::size_t narrower =
            std::max(narrowest_name, shown.front().width - std::min(shown.front().width, total - width));
        total -= shown.front().width - narrower;
        shown.front().width = narrower;
    }
    while (total > width && shown.size() > 2 && !columns_[shown.back().column].head.empty())
        leave_out(shown.end() - 1);
    const auto line_of = [&](const auto& cell) {
        std::string line;
        for (const Shown& one : shown) {
            const std::string text = shortened_name(cell(one.column), one.width);
            const std::string space(one.width - display_width(text), ' ');
            const bool right = columns_[one.column].align == Align::right;
            line += (line.empty() ? "" : std::string(gap, ' ')) + (right ? space + text : text + space);
        }
        line.erase(line.find_last_not_of(' ') + 1);
        return line + "\n";
    };
    std::string text = line_of([&](std::size_t c) -> const std::string& { return columns_[c].head; });
    for (std::size_t r = 0; r < count; ++r)
        text += line_of([&](std::size_t c) -> const std::string& { return rows_[r][c].shown; });
    if (missing.empty()) return text;
    std::vector<std::string> names;
    for (const std::size_t column : missing) names.push_back(columns_[column].head);
    return text +
           wrapped(fmt::format("left out to fit {} columns: {}", width, fmt::join(names, ", ")), width);
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
