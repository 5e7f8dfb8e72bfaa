// Tables as comma-separated text (RFC 4180): quoted cells may hold commas, quotes and line breaks.
//
// A cell that a spreadsheet would run as a formula, because it begins with =, +, -, @, a tab or a carriage
// return and is not a number, is written with an apostrophe before it (one more when it begins with
// apostrophes before such a character), which reading takes away again.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace jevrin::inline v1 {

// A table in a file is at most so long.
inline constexpr std::int64_t largest_table_file = std::int64_t{1} << 32;

// The first row names the columns.
struct CsvRow {
    std::int64_t line = 0;  // where the row begins, from 1
    std::span<const std::string> cells;
};

class CsvReader {
  public:
    // text must outlive the reader; file names it in messages. InputError when there is no first row.
    CsvReader(std::string_view text, std::string file);

    const std::vector<std::string>& columns() const { return columns_; }
    // The place of a column, or -1.
    std::ptrdiff_t find(const std::string& column) const;
    // InputError names the columns that there are.
    std::size_t require(const std::string& column) const;

    // Calls row(row) for each row after the first; empty lines are passed over. InputError with the line when
    // a row has another number of cells than the first or a quote is left open.
    void for_each(const std::function<void(const CsvRow&)>& row) const;

    // "FILE:LINE".
    std::string place(std::int64_t line) const;

  private:
    std::string_view text_;
    std::string file_;
    std::vector<std::string> columns_;
};

// One cell, quoted where it must be.
std::string csv_cell(std::string_view text);
// A row with its line break.
std::string csv_row(std::span<const std::string> cells);

}  // namespace jevrin::inline v1
