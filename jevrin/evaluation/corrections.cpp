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

void add_marks(const std::vector<MarkRecord>& marks, std::map<std::string, Row>& rows) {
    for (const MarkRecord& mark : marks)
        if (mark.excluded || !mark.label.empty())
            rows[path_of_item(mark.item)] = {mark.excluded ? "exclude" : mark.label, mark.note};
}

std::string text_of(const std::map<std::string, Row>& rows) {
    std::string text = csv_row(std::vector<std::string>{"item", "label", "note"});
    for (const auto& [item, row] : rows) text += csv_row(std::vector<std::string>{item, row.label, row.note});
    return text;
}

}  // namespace

std::string corrections_text(const std::vector<MarkRecord>& marks) {
    std::map<std::string, Row> rows;
    add_marks(marks, rows);
    return text_of(rows);
}

std::int64_t write_corrections(const std::vector<MarkRecord>& marks, const std::filesystem::path& file) {
    std::map<std::string, Row> rows;
    if (std::filesystem::exists(file)) rows = read_rows(file);
    add_marks(marks, rows);
    write_file(file, text_of(rows));
    return std::ssize(rows);
}

}  // namespace jevrin::inline v1
