#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cctype>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <set>

namespace jevrin::app {
namespace {

double now() {
    return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

std::size_t width_of(int descriptor) {
    winsize size{};
    return ::ioctl(descriptor, TIOCGWINSZ, &size) == 0 && size.ws_col > 0 ? size.ws_col : 0;
}

}  // namespace

void add_ledger_options(Command& command, LedgerOptions& options) {
    command.add_option("--ledger", options.directory, "the directory that keeps the runs")
        .type_name("DIR")
        .capture_default_str();
    command
        .add_option("--study", options.study,
                    "the study, when the ledger holds several (default: the one trained last)")
        .type_name("NAME");
    command.add_flag("--json", options.json, "print one JSON document");
}

OpenStudy open_study(const LedgerOptions& options) {
    Ledger ledger = Ledger::open(options.directory);
    StudyRecord study = ledger.study(options.study);
    if (options.study.empty() && ledger.study_names().size() > 1)
        warn(fmt::format(
            "this ledger holds {} studies; this is '{}', the one trained last (--study NAME for another)",
            ledger.study_names().size(), study.name));
    return {std::move(ledger), std::move(study)};
}

std::string test_look_line(const OpenStudy& open) {
    const std::vector<TestLook> looks = open.ledger.test_looks(open.study.id);
    if (looks.empty()) return "the test part of this study has not been looked at\n";
    std::set<std::string> runs;
    for (const TestLook& look : looks) runs.insert(look.run);
    return fmt::format("the test part of this study has been looked at {}, with {}; last on {} with {}\n",
                       plural(std::ssize(looks), "time"), plural(std::ssize(runs), "run"),
                       looks.back().looked, printable(looks.back().run));
}

std::int64_t looks_with(const std::vector<TestLook>& looks, const std::string& run) {
    return std::count_if(looks.begin(), looks.end(), [&](const TestLook& look) { return look.run == run; });
}

std::string shell_word(const std::string& word) {
    const bool plain = !word.empty() && std::all_of(word.begin(), word.end(), [](char c) {
        return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '/' || c == '-' || c == '_' ||
               c == '.';
    });
    if (plain) return word;
    std::string text = "'";
    for (const char c : printable(word)) text += c == '\'' ? std::string("'\\''") : std::string(1, c);
    return text + "'";
}

void print(const std::string& text) {
    if (std::fwrite(text.data(), 1, text.size(), stdout) != text.size() || std::fflush(stdout) != 0)
        throw WorkError("cannot write to standard output; check the disk or the program that reads it");
}

void add_picture_option(Command& command, const std::string& name, std::filesystem::path& file,
                        const std::string& what) {
    command.add_option(name, file, what + " (.png or .svg)").type_name("FILE");
}

void add_table_option(Command& command, std::filesystem::path& file, const std::string& what) {
    command.add_option("--csv", file, what).type_name("FILE");
}

void print_written(const std::vector<std::filesystem::path>& files) {
    for (const auto& file : files)
        if (!file.empty()) print(fmt::format("written to {}\n", printable(file.string())));
}

void add_memory_option(Command& command, double& gigabytes) {
    command
        .add_option("--memory", gigabytes,
                    "gigabytes that training may take (default: most of the machine's)")
        .positive();
}

void add_most_option(Command& command, MostItems& most) {
    command
        .add_option("--most", most.given,
                    "how many to list and to draw (0: all; default: 20 rows, a page of 64 pictures)")
        .option_text("N");
}

void limit_memory(double gigabytes) {
    if (gigabytes > 0) set_memory_limit(static_cast<std::int64_t>(gigabytes * 1e9));
}

void print_json(const Json& json) {
    print(json_text(json, 2) + "\n");
}

void warn(const std::string& message) {
    fmt::print(stderr, "warning: {}\n", message);
}

Table::Table(std::vector<std::string> heads, std::vector<std::size_t> right) : right_(std::move(right)) {
    rows_.push_back(std::move(heads));
}

void Table::add(std::vector<std::string> cells) {
    rows_.push_back(std::move(cells));
}

std::string Table::text() const {
    std::vector<std::size_t> widths(rows_.front().size(), 0);
    for (const auto& row : rows_)
        for (std::size_t c = 0; c < row.size(); ++c) widths[c] = std::max(widths[c], display_width(row[c]));
    std::string text;
    for (const auto& row : rows_) {
        std::string line;
        for (std::size_t c = 0; c < row.size(); ++c) {
            const bool right = std::find(right_.begin(), right_.end(), c) != right_.end();
            const std::string space(widths[c] - display_width(row[c]), ' ');
            line += (c == 0 ? "" : "  ") + (right ? space + row[c] : row[c] + space);
        }
        line.erase(line.find_last_not_of(' ') + 1);
        text += line + "\n";
    }
    return text;
}

std::string short_cell(const std::string& name, std::size_t width) {
    return shortened(name, width);
}

std::string three_decimals(double value) {
    return std::isnan(value) ? "" : fmt::format("{:.3f}", value);
}

Json number(double value) {
    return std::isnan(value) ? Json() : Json(value);
}

Json interval_json(const std::optional<Interval>& interval) {
    return interval ? Json::array({interval->low, interval->high}) : Json();
}

std::string with_commas(std::int64_t value) {
    std::string digits = std::to_string(value);
    for (std::ptrdiff_t place = static_cast<std::ptrdiff_t>(digits.size()) - 3; place > (value < 0 ? 1 : 0);
         place -= 3)
        digits.insert(static_cast<std::size_t>(place), ",");
    return digits;
}

std::string spoken_seconds(double seconds) {
    if (seconds < 9.95) return fmt::format("{:.1f} s", seconds);
    const auto whole = static_cast<std::int64_t>(seconds + 0.5);
    if (whole < 60) return fmt::format("{} s", whole);
    if (whole < 3600) return fmt::format("{} min {} s", whole / 60, whole % 60);
    return fmt::format("{} h {} min", whole / 3600, whole % 3600 / 60);
}

std::string plural(std::int64_t count, const std::string& word) {
    return fmt::format("{} {}{}", with_commas(count), word, count == 1 ? "" : "s");
}

ProgressBars::ProgressBars() : terminal_(::isatty(STDERR_FILENO) == 1) {}
ProgressBars::~ProgressBars() {
    clear();
}

void ProgressBars::show(const std::vector<Progress>& bars) {
    constexpr double least_seconds_between = 0.1;
    if (!terminal_ || now() - last_drawn_ < least_seconds_between) return;
    clear();
    last_drawn_ = now();
    constexpr std::size_t bar_width = 24;
    const std::size_t columns = std::max<std::size_t>(width_of(STDERR_FILENO), 40);
    std::size_t name_width = 0;
    for (const Progress& bar : bars) name_width = std::max(name_width, display_width(bar.what));
    std::string text;
    for (const Progress& bar : bars) {
        const auto full = static_cast<std::size_t>(std::clamp(bar.share, 0.0, 1.0) * bar_width + 0.5);
        const std::string line =
            fmt::format("{} [{}{}] {:3.0f} %  {}", padded(bar.what, name_width), std::string(full, '#'),
                        std::string(bar_width - full, '.'), 100 * bar.share, bar.after);
        text += (text.empty() ? "" : "\n") + padded(line, columns - 1);
    }
    fmt::print(stderr, "{}", text);
    std::fflush(stderr);
    shown_ = bars.size();
}

void ProgressBars::show(const std::string& what, std::int64_t done, std::int64_t total) {
    show({{what, static_cast<double>(done) / static_cast<double>(std::max<std::int64_t>(1, total)), ""}});
}

void ProgressBars::clear() {
    if (shown_ == 0) return;
    // To the first of the lines, wiping each.
    std::string text = "\r\x1b[2K";
    for (std::size_t line = 1; line < shown_; ++line) text += "\x1b[1A\x1b[2K";
    fmt::print(stderr, "{}", text);
    std::fflush(stderr);
    shown_ = 0;
}

std::size_t terminal_width() {
    const std::size_t columns = width_of(STDOUT_FILENO);
    return columns == 0 ? 100 : std::clamp<std::size_t>(columns, 60, 160);
}

}  // namespace jevrin::app
