#include "jevrin/base/csv.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <csv.h>
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <exception>
#include <new>
#include <utility>

namespace jevrin::inline v1 {
namespace {

// Whether a spreadsheet would run a cell behind any apostrophes: they begin so, and are no numbers.
bool is_formula(std::string_view text) {
    text.remove_prefix(std::min(text.find_first_not_of('\''), text.size()));
    if (text.empty() || std::string_view("=+-@\t\r").find(text.front()) == std::string_view::npos)
        return false;
    double number = 0.0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
    return error != std::errc() || end != text.data() + text.size();
}

std::string_view without_guard(std::string_view text) {
    return text.starts_with('\'') && is_formula(text) ? text.substr(1) : text;
}

// Runs libcsv over a text and calls row(cells, first line) at the end of each row.
class Parse {
  public:
    using Row = std::function<bool(std::span<const std::string>, std::int64_t)>;

    // row returns false to stop.
    Parse(std::string_view text, Row row) : row_(std::move(row)) {
        constexpr unsigned char options = CSV_STRICT | CSV_STRICT_FINI | CSV_REPALL_NL;
        if (csv_init(&parser_, options) != 0) throw std::bad_alloc();
        // In pieces: stopping early costs no more than one of them.
        constexpr std::size_t piece = 1 << 16;
        while (!text.empty() && !stopped_) {
            const std::size_t length = std::min(piece, text.size());
            if (csv_parse(&parser_, text.data(), length, on_cell, on_row, this) != length) break;
            text.remove_prefix(length);
        }
        if (!stopped_) csv_fini(&parser_, on_cell, on_row, this);
        error_ = stopped_ ? 0 : csv_error(&parser_);
        csv_free(&parser_);
        if (failure_) std::rethrow_exception(failure_);
    }
    // libcsv's code, 0 when all went well.
    int error() const { return error_; }
    std::int64_t line() const { return line_; }
    static const char* describe(int error) { return csv_strerror(error); }

  private:
    static void on_cell(void* cell, std::size_t length, void* self) {
        auto& parse = *static_cast<Parse*>(self);
        if (parse.count_ == parse.cells_.size()) parse.cells_.emplace_back();
        std::string& text = parse.cells_[parse.count_++];
        text.assign(without_guard({static_cast<const char*>(cell), length}));
        parse.breaks_ += std::count(text.begin(), text.end(), '\n');
    }
    // No exception may pass through the library.
    static void on_row(int end, void* self) noexcept {
        auto& parse = *static_cast<Parse*>(self);
        const int before = std::exchange(parse.last_end_, end);
        if (parse.stopped_ || (end == '\n' && before == '\r' && parse.count_ == 0)) return;
        try {
            const bool empty = parse.count_ == 0;
            if (!empty && !parse.row_(std::span(parse.cells_).first(parse.count_), parse.line_))
                parse.stopped_ = true;
        } catch (...) {
            parse.failure_ = std::current_exception();
            parse.stopped_ = true;
        }
        parse.line_ += 1 + parse.breaks_;
        parse.count_ = 0;
        parse.breaks_ = 0;
    }

    Row row_;
    csv_parser parser_{};
    std::vector<std::string> cells_;
    std::size_t count_ = 0;
    std::int64_t line_ = 1;
    std::int64_t breaks_ = 0;
    int last_end_ = 0;  // the character that ended the row before: the two of "\r\n" end one row
    bool stopped_ = false;
    int error_ = 0;
    std::exception_ptr failure_;
};

std::string_view without_mark(std::string_view text) {
    constexpr std::string_view byte_order_mark = "\xEF\xBB\xBF";
    return text.starts_with(byte_order_mark) ? text.substr(byte_order_mark.size()) : text;
}

}  // namespace

CsvReader::CsvReader(std::string_view text, std::string file)
    : text_(without_mark(text)), file_(std::move(file)) {
    const Parse parse(text_, [&](std::span<const std::string> cells, std::int64_t) {
        columns_.assign(cells.begin(), cells.end());
        return false;
    });
    if (columns_.empty())
        throw InputError(fmt::format("{}: it is empty; the first row must name the columns", file_));
}

std::ptrdiff_t CsvReader::find(const std::string& column) const {
    const auto found = std::find(columns_.begin(), columns_.end(), column);
    return found == columns_.end() ? -1 : found - columns_.begin();
}

std::size_t CsvReader::require(const std::string& column) const {
    const std::ptrdiff_t place = find(column);
    if (place >= 0) return static_cast<std::size_t>(place);
    std::string names;
    for (const std::string& name : columns_)
        names += fmt::format("{}'{}'", names.empty() ? "" : ", ", printable(name));
    throw InputError(fmt::format("{}: it has no column '{}'{}; its first row names {}", file_,
                                 printable(column), did_you_mean(column, columns_), names));
}

void CsvReader::for_each(const std::function<void(const CsvRow&)>& row) const {
    bool first = true;
    const Parse parse(text_, [&](std::span<const std::string> cells, std::int64_t line) {
        if (!std::exchange(first, false)) {
            if (cells.size() != columns_.size())
                throw InputError(
                    fmt::format("{}: this row has {} cells and the first row has {}; "
                                "quote cells that contain commas",
                                place(line), cells.size(), columns_.size()));
            row({line, cells});
        }
        return true;
    });
    if (parse.error() != 0)
        throw InputError(
            fmt::format("{}: this row is not CSV: a quote is unclosed or inside an unquoted cell; "
                        "write \"\" for a quote in a quoted cell",
                        place(parse.line())));
}

std::string CsvReader::place(std::int64_t line) const {
    return fmt::format("{}:{}", file_, line);
}

std::string csv_cell(std::string_view content) {
    const std::string text = is_formula(content) ? "'" + std::string(content) : std::string(content);
    constexpr std::string_view blanks = " \t";  // taken away where they stand around a cell without quotes
    const bool blank_ends = !text.empty() && (blanks.find(text.front()) != std::string_view::npos ||
                                              blanks.find(text.back()) != std::string_view::npos);
    if (text.find_first_of(",\"\r\n") == std::string_view::npos && !blank_ends) return text;
    std::string quoted(1, '"');
    for (const char c : text) quoted.append(c == '"' ? 2 : 1, c);
    return quoted + '"';
}

std::string csv_row(std::span<const std::string> cells) {
    if (cells.size() == 1 && cells[0].empty()) return "\"\"\n";  // an empty line would be no row
    std::string row;
    for (const std::string& cell : cells) {
        if (&cell != cells.data()) row += ',';
        row += csv_cell(cell);
    }
    row += '\n';
    return row;
}

}  // namespace jevrin::inline v1
