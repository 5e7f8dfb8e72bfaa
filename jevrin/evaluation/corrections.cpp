#include "jevrin/evaluation/corrections.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"

#include <map>
#include <string>

namespace jevrin::inline v1 {
namespace {

struct Row {
    std::string label;
    std::string note;
};

std::map<std::string, Row> read_rows(const std::filesystem::path& file) {
    std::map<std::string, Row> rows;
    const std::string text = read_text(file, largest_table_file);
    const CsvReader table(text, printable(file.string()));
    const std::size_t item = table.require("item");
    const std::size_t label = table.require("label");
    const std::ptrdiff_t note = table.find("note");
    table.for_each([&](const CsvRow& row) {
        rows[row.cells[item]] = {row.cells[label], note < 0 ? "" : row.cells[static_cast<std::size_t>(note)]};
    });
    return rows;
}

}  // namespace

std::int64_t write_corrections(const std::vector<MarkRecord>& marks, const std::filesystem::path& file) {
    std::map<std::string, Row> rows;
    if (std::filesystem::exists(file)) rows = read_rows(file);
    for (const MarkRecord& mark : marks)
        if (mark.excluded || !mark.label.empty())
            rows[path_of_item(mark.item)] = {mark.excluded ? "exclude" : mark.label, mark.note};
    std::string text = csv_row(std::vector<std::string>{"item", "label", "note"});
    for (const auto& [item, row] : rows) text += csv_row(std::vector<std::string>{item, row.label, row.note});
    write_file(file, text);
    return std::ssize(rows);
}

}  // namespace jevrin::inline v1
