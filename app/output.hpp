// What commands print: results as text or JSON, and progress.
#pragma once

#include "command.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"

#include <algorithm>
#include <cstdint>
#include <filesystem>
#include <functional>
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
// The same options one by one, for commands that take only some of them.
void add_ledger_option(Command& command, std::filesystem::path& directory);
void add_json_option(Command& command, bool& json);
// PLAN, and --ledger of the commands that do without one.
void add_plan_option(Command& command, std::filesystem::path& plan);
void add_caching_ledger_option(Command& command, std::filesystem::path& directory);
// RUN: one run; runs or candidates.
void add_run_option(Command& command, std::string& run);
Option add_runs_option(Command& command, std::vector<std::string>& runs);

// A ledger with the study that the options name.
struct OpenStudy {
    Ledger ledger;
    StudyRecord study;
};
OpenStudy open_study(const LedgerOptions& options);

// --memory of the commands that train; zero stands for the default.
void add_memory_option(Command& command, double& gigabytes);
void limit_memory(double gigabytes);

// --most of the commands that list items and draw them.
void add_most_option(Command& command, std::optional<std::size_t>& most);

// A file that a command draws or writes besides what it prints. The format of a figure follows from the
// file's name.
Option add_figure_option(Command& command, const std::string& name, std::filesystem::path& file,
                         const std::string& what);
void add_table_option(Command& command, std::filesystem::path& file, const std::string& what);
// As CSV, unless no file is named.
void write_table(const std::filesystem::path& file, const ResultTable& table);

// The text's width is the terminal's.
TextForm form_for_terminal(std::optional<std::size_t> rows = std::nullopt, const std::string& for_all = "");

// How a command shows its result.
struct Presentation {
    bool json = false;
    TextForm form = form_for_terminal();
    std::vector<std::filesystem::path> written = {};  // files; empty ones were not asked for
    std::string next = {};                            // what to do now; in the text alone
};

// To standard output. WorkError when that is full; when nobody reads it any more the command ends.
void print(const std::string& text);
// To standard error; what cannot be written there is lost.
void print_error(const std::string& text);
// In this colour ("#rrggbb") when standard output is a terminal that shows it.
std::string highlighted(const std::string& text, const std::string& colour);
// "warning: ..." to standard error. In commands called with --json warnings wait for the end, so that an
// error is one document; stream_warnings() ends that.
void warn(const std::string& message);
void stream_warnings();
// From now on an error is one JSON document on standard error: error, exit_status, warnings.
void use_json_errors();
void report_error(const std::string& message, int status);
void print_written(const std::vector<std::filesystem::path>& files);

// The looks at the test part that a result tells of; none when it does not.
template <typename Result>
const std::vector<TestLook>* looks_of(const Result& result) {
    if constexpr (requires { result.context.looks; }) return &result.context.looks;
    if constexpr (requires { result.of.context.looks; }) return &result.of.context.looks;
    return nullptr;
}

bool is_standard_output(const std::filesystem::path& file);  // "-", /dev/stdout

// Every command ends here: the JSON of its result, or its text, what to do next, the line about looks at the
// test part, and the files that were written. When one of these is standard output it stands there alone.
template <typename Result>
void present(const Result& result, const Presentation& how) {
    if (std::any_of(how.written.begin(), how.written.end(), is_standard_output)) {
        if (how.json)
            throw InputError("--json and a file that is standard output exclude each other; name a file");
        return;
    }
    if (how.json) {
        print(to_json(result) + "\n");
        return;
    }
    print(to_text(result, how.form) + how.next);
    if (const std::vector<TestLook>* looks = looks_of(result)) print(test_look_line(*looks));
    print_written(how.written);
}

// How far something is.
struct Progress {
    std::string what;
    double fraction = 0.0;  // in [0, 1]
    std::string after;      // text after the bar
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
    // One bar of this name, for a callback; this must outlive it.
    std::function<void(std::int64_t done, std::int64_t total)> of(const std::string& what);
    // One bar whose name the callback gives.
    std::function<void(const std::string& what, std::int64_t done, std::int64_t total)> named();

  private:
    bool terminal_;
    bool rich_;
    std::size_t shown_ = 0;
    double last_drawn_ = 0.0;
};

}  // namespace jevrin::app
