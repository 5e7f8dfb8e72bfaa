// The table of a result: aligned columns for people, comma-separated for programs.
#pragma once

#include <cstddef>
#include <limits>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

enum class Align { left, right };

struct TableColumn {
    std::string key;            // heads it in CSV
    std::string head;           // heads it in the text
    Align align = Align::left;  // in the text
    enum class Place { both, text, csv } place = Place::both;
    int optional = 0;  // the highest is the first to be left out of a text that is too wide; 0: never
};

struct TableCell {
    std::string shown;  // in the text
    std::string exact;  // in CSV

    TableCell(const char* same) : shown(same), exact(same) {}
    TableCell(std::string same) : shown(std::move(same)), exact(shown) {}
    TableCell(std::string in_text, std::string in_csv)
        : shown(std::move(in_text)), exact(std::move(in_csv)) {}
};
// A class, candidate or file: cut in the middle to this display width in the text, and safe to print.
TableCell name_cell(const std::string& name, std::size_t width = 40);
// A sentence or a list: cut at its end.
TableCell text_cell(const std::string& text, std::size_t width);
// So many decimals in the text, all of them in CSV; empty when the value is NaN.
TableCell decimal_cell(double value, int decimals = 3);
// With commas in the text.
TableCell count_cell(std::int64_t value);

class ResultTable {
  public:
    explicit ResultTable(std::vector<TableColumn> columns) : columns_(std::move(columns)) {}
    // For text alone: heads, and which columns (from 0) are aligned to the right.
    explicit ResultTable(const std::vector<std::string>& heads, const std::vector<std::size_t>& right = {});

    // A cell for each column.
    void add(std::vector<TableCell> cells);
    std::size_t rows() const { return rows_.size(); }
    // The first `most` rows, under their heads. A table wider than `width` columns leaves out optional
    // columns, then shortens the cells of its first column, then leaves out columns with heads from the
    // right, and says which are missing.
    std::string text(std::size_t width, std::size_t most = std::numeric_limits<std::size_t>::max()) const;
    // All rows (RFC 4180).
    std::string csv() const;
    // The same without the heads.
    std::string csv_rows() const;

  private:
    std::vector<TableColumn> columns_;
    std::vector<std::vector<TableCell>> rows_;
};

}  // namespace jevrin::inline v1
