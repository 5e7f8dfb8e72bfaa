#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/terminal_drawing.hpp"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <optional>

namespace jevrin::app {
namespace {

double now() {
    return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

std::size_t width_of(int descriptor) {
    winsize size{};
    return ::ioctl(descriptor, TIOCGWINSZ, &size) == 0 && size.ws_col > 0 ? size.ws_col : 0;
}

// Whether a terminal shows colour and block characters (UTF-8); NO_COLOR (no-color.org) turns both off.
bool is_rich(int descriptor) {
    const auto variable = [](const char* name) {
        const char* value = std::getenv(name);
        return std::string(value == nullptr ? "" : value);
    };
    if (::isatty(descriptor) != 1 || !variable("NO_COLOR").empty() || variable("TERM") == "dumb")
        return false;
    // The first of these that is set decides (POSIX).
    for (const char* name : {"LC_ALL", "LC_CTYPE", "LANG"})
        if (const std::string locale = folded_case(variable(name)); !locale.empty())
            return locale.find("utf-8") != std::string::npos || locale.find("utf8") != std::string::npos;
    return false;
}

const char* const bar_colour = "#0072b2";
const char* const warning_colour = "#d75f00";

bool json_errors = false;
std::optional<std::vector<std::string>> waiting_warnings;

}  // namespace

std::string highlighted(const std::string& text, const std::string& colour) {
    return is_rich(STDOUT_FILENO) ? coloured(text, colour) : text;
}

void add_ledger_option(Command& command, std::filesystem::path& directory) {
    command.add_option("--ledger", directory, "directory of the ledger")
        .type_name("DIR")
        .capture_default_str();
}

void add_json_option(Command& command, bool& json) {
    command.add_flag("--json", json, "print one JSON document");
}

void add_ledger_options(Command& command, LedgerOptions& options) {
    add_ledger_option(command, options.directory);
    command
        .add_option("--study", options.study,
                    "the study, if the ledger has several (default: the one trained last)")
        .type_name("NAME");
    add_json_option(command, options.json);
}

void add_plan_option(Command& command, std::filesystem::path& plan) {
    command.add_option("PLAN", plan, "the plan, a TOML file").required();
}

void add_caching_ledger_option(Command& command, std::filesystem::path& directory) {
    command.add_option("--ledger", directory, "a ledger whose caches and split are used, if it exists")
        .type_name("DIR")
        .capture_default_str();
}

void add_run_option(Command& command, std::string& run) {
    command.add_option("RUN", run, "the run, as CANDIDATE/SEED").required();
}

Option add_runs_option(Command& command, std::vector<std::string>& runs) {
    return command.add_option("RUN", runs, "runs as CANDIDATE/SEED, or candidates (default: all)");
}

OpenStudy open_study(const LedgerOptions& options) {
    Ledger ledger = Ledger::open(options.directory);
    StudyRecord study = ledger.study(options.study);
    if (options.study.empty() && ledger.study_names().size() > 1)
        warn(fmt::format(
            "this ledger has {} studies; this is '{}', the one trained last (--study NAME for another)",
            ledger.study_names().size(), study.name));
    return {std::move(ledger), std::move(study)};
}

void print(const std::string& text) {
    if (std::fwrite(text.data(), 1, text.size(), stdout) == text.size() && std::fflush(stdout) == 0) return;
    if (errno == EPIPE) throw ExitStatus{1};
    throw WorkError(fmt::format("cannot write to standard output: {}", std::strerror(errno)));
}

void print_error(const std::string& text) {
    std::fwrite(text.data(), 1, text.size(), stderr);
    std::fflush(stderr);
}

Option add_figure_option(Command& command, const std::string& name, std::filesystem::path& file,
                         const std::string& what) {
    return command.add_option(name, file, what + " (.png or .svg)").type_name("FILE");
}

void add_table_option(Command& command, std::filesystem::path& file, const std::string& what) {
    command.add_option("--csv", file, what).type_name("FILE");
}

bool is_standard_output(const std::filesystem::path& file) {
    return file == "-" || file == "/dev/stdout" || file == "/dev/fd/1" || file == "/proc/self/fd/1";
}

void print_written(const std::vector<std::filesystem::path>& files) {
    for (const auto& file : files)
        if (!file.empty()) print(fmt::format("written to {}\n", printable(file.string())));
}

void add_memory_option(Command& command, double& gigabytes) {
    command
        .add_option("--memory", gigabytes,
                    "memory limit of training in gigabytes (default: most of the machine's memory)")
        .positive();
}

void add_most_option(Command& command, std::optional<std::size_t>& most) {
    command
        .add_option("--most", most, "number of items to list and draw (0: all; default: 20 rows, 64 images)")
        .option_text("N");
}

void write_table(const std::filesystem::path& file, const ResultTable& table) {
    if (!file.empty()) write_file(file, table.csv());
}

void limit_memory(double gigabytes) {
    if (gigabytes > 0) set_memory_limit(static_cast<std::int64_t>(gigabytes * 1e9));
}

void warn(const std::string& message) {
    if (json_errors && waiting_warnings) {
        waiting_warnings->push_back(message);
        return;
    }
    print_error(fmt::format(
        "{} {}\n", is_rich(STDERR_FILENO) ? coloured("warning:", warning_colour) : "warning:", message));
}

void stream_warnings() {
    if (!waiting_warnings) return;
    const std::vector<std::string> messages = std::move(*waiting_warnings);
    waiting_warnings.reset();
    for (const std::string& message : messages) warn(message);
}

void use_json_errors() {
    json_errors = true;
    waiting_warnings.emplace();
}

void report_error(const std::string& message, int status) {
    if (!json_errors) {
        print_error(fmt::format("jevrin: {}\n", message));
        return;
    }
    Json document = {{"error", message}, {"exit_status", status}, {"warnings", Json::array()}};
    if (waiting_warnings) document["warnings"] = Json(*waiting_warnings);
    waiting_warnings.reset();
    print_error(json_text(document) + "\n");
}

TextForm form_for_terminal(std::optional<std::size_t> rows, const std::string& for_all) {
    const std::size_t columns = width_of(STDOUT_FILENO);
    return {.width = columns == 0 ? 100 : std::clamp<std::size_t>(columns, 60, 160),
            .rich = is_rich(STDOUT_FILENO),
            .rows = rows,
            .for_all = for_all};
}

ProgressBars::ProgressBars() : terminal_(::isatty(STDERR_FILENO) == 1), rich_(is_rich(STDERR_FILENO)) {}
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
        const std::string before = padded(bar.what, name_width) + (rich_ ? " " : " [");
        const std::string full = jevrin::bar(bar.fraction, bar_width, rich_);
        std::string rest;
        for (std::size_t k = display_width(full); k < bar_width; ++k) rest += rich_ ? "\u2591" : ".";
        const std::string after =
            fmt::format("{} {:3.0f} %  {}", rich_ ? "" : "]", 100 * bar.fraction, bar.after);
        const std::size_t used = display_width(before) + bar_width;
        text += (text.empty() ? "" : "\n") + before +
                (rich_ ? coloured(full + rest, bar_colour) : full + rest) +
                padded(after, columns > used + 1 ? columns - used - 1 : 0);
    }
    print_error(text);
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
    print_error(text);
    shown_ = 0;
}

std::function<void(std::int64_t, std::int64_t)> ProgressBars::of(const std::string& what) {
    return [this, what](std::int64_t done, std::int64_t total) { show(what, done, total); };
}

std::function<void(const std::string&, std::int64_t, std::int64_t)> ProgressBars::named() {
    return
        [this](const std::string& what, std::int64_t done, std::int64_t total) { show(what, done, total); };
}

}  // namespace jevrin::app
