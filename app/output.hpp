// What commands print: text for people, JSON for programs, progress for those who wait.
#pragma once

#include "command.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/metrics/intervals.hpp"

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::app {

// The options of every command that reads a ledger.
struct LedgerOptions {
    std::filesystem::path directory = "ledger";
    std::string study;
    bool json = false;
};
void add_ledger_options(Command& command, LedgerOptions& options);

// --memory of the commands that train; zero stands for the default.
void add_memory_option(Command& command, double& gigabytes);
void limit_memory(double gigabytes);

// A file that a command draws or writes besides what it prints. The kind of a picture follows from the file's
// name.
void add_picture_option(Command& command, const std::string& name, std::filesystem::path& file,
                        const std::string& what);
void add_table_option(Command& command, std::filesystem::path& file, const std::string& what);
// "written to FILE" for each of them that was asked for.
void print_written(const std::vector<std::filesystem::path>& files);

// A ledger with the study that the options name.
struct OpenStudy {
    Ledger ledger;
    StudyRecord study;
};
OpenStudy open_study(const LedgerOptions& options);

// "the test part has been looked at 3 times, with 2 runs; last on ... with ..."; a line of its own under what
// is reported.
std::string test_look_line(const OpenStudy& open);

// How many of them were with this run.
std::int64_t looks_with(const std::vector<TestLook>& looks, const std::string& run);

// A word as a shell takes it.
std::string shell_word(const std::string& word);

// One JSON document on standard output.
void print_json(const Json& json);
void print(const std::string& text);    // to standard output
void warn(const std::string& message);  // "warning: ..." to standard error

// Rows of cells in aligned columns; columns named in `right` are aligned to the right.
class Table {
  public:
    explicit Table(std::vector<std::string> heads, std::vector<std::size_t> right = {});
    void add(std::vector<std::string> cells);
    std::string text() const;

  private:
    std::vector<std::vector<std::string>> rows_;
    std::vector<std::size_t> right_;
};

// A class or file name for a cell: at most so wide.
std::string short_cell(const std::string& name, std::size_t width = 40);
// A number of three decimals; empty when it is not defined.
std::string three_decimals(double value);
// The number, or null when it is not defined.
Json number(double value);
Json interval_json(const std::optional<Interval>& interval);

// --most of the commands that list items and draw them: how many of each.
struct MostItems {
    std::optional<std::size_t> given;

    std::size_t rows(std::size_t items) const { return of(items, 20); }
    std::size_t pictures(std::size_t items) const { return of(items, 64); }  // a page

  private:
    std::size_t of(std::size_t items, std::size_t usual) const {
        const std::size_t most = given.value_or(usual);
        return most == 0 || most > items ? items : most;
    }
};
void add_most_option(Command& command, MostItems& most);

// "1,234,567", "1 min 20 s".
std::string with_commas(std::int64_t value);
std::string spoken_seconds(double seconds);
std::string plural(std::int64_t count, const std::string& word);

// How far something is.
struct Progress {
    std::string what;
    double share = 0.0;  // in [0, 1]
    std::string after;   // what stands behind the bar
};

// Bars on the last lines of a terminal; nothing is drawn when standard error is no terminal.
class ProgressBars {
  public:
    ProgressBars();
    ~ProgressBars();
    ProgressBars(const ProgressBars&) = delete;
    ProgressBars& operator=(const ProgressBars&) = delete;

    // As many bars in each call as in the one before, or after clear().
    void show(const std::vector<Progress>& bars);
    // One bar.
    void show(const std::string& what, std::int64_t done, std::int64_t total);
    // Takes the bars away, so that a line can be printed.
    void clear();

  private:
    bool terminal_;
    std::size_t shown_ = 0;
    double last_drawn_ = 0.0;
};

// Columns of the terminal, or 100 when output goes elsewhere.
std::size_t terminal_width();

}  // namespace jevrin::app
