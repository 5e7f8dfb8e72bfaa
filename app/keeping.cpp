// note, archive, delete: what is said of recorded runs, and which of them stay in sight.
#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/ledger/ledger_writer.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <iostream>

namespace jevrin::app {
namespace {

struct NoteOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::string text;
    bool has_text = false;
    std::vector<std::string> tags;
    std::vector<std::string> untags;
};

struct ArchiveOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    bool undo = false;
};

struct DeleteOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    bool yes = false;
};

// All are found before anything is changed.
std::vector<RunRecord> find_runs(const OpenStudy& open, const std::vector<std::string>& names) {
    return runs_called(open.ledger, open.study, names, RunScope::archived_too);
}

void print_runs(const LedgerOptions& options, const std::vector<RunRecord>& runs, const std::string& done) {
    if (!options.json) {
        for (const RunRecord& run : runs) print(fmt::format("{}: {}\n", done, printable(run.name())));
        return;
    }
    Json json = Json::array();
    for (const RunRecord& run : runs)
        json.push_back(
            {{"run", run.name()}, {"tags", run.tags}, {"note", run.note}, {"archived", run.archived}});
    print_json(json);
}

std::vector<RunRecord> read_again(const OpenStudy& open, const std::vector<RunRecord>& runs) {
    std::vector<RunRecord> again;
    for (const RunRecord& run : runs) again.push_back(open.ledger.run_by_id(run.id));
    return again;
}

void note(const NoteOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = find_runs(open, options.runs);
    if (!options.has_text && options.tags.empty() && options.untags.empty()) {
        if (options.ledger.json) {
            print_runs(options.ledger, runs, "");
            return;
        }
        for (const RunRecord& run : runs)
            print(
                fmt::format("{}: {}{}{}\n", printable(run.name()),
                            run.tags.empty() ? "no tags" : fmt::format("tags {}", fmt::join(run.tags, ", ")),
                            run.note.empty() ? "" : "; ", printable(run.note)));
        return;
    }
    LedgerWriter ledger = LedgerWriter::open(options.ledger.directory);
    for (const RunRecord& run : runs) {
        if (options.has_text) ledger.put_note(run.id, options.text);
        for (const std::string& tag : options.tags) ledger.add_tag(run.id, tag);
        for (const std::string& tag : options.untags)
            if (!ledger.remove_tag(run.id, tag))
                throw InputError(fmt::format("run '{}' has no tag '{}'{}", printable(run.name()),
                                             printable(tag), did_you_mean(tag, run.tags)));
    }
    print_runs(options.ledger, read_again(open, runs), "noted");
}

void archive(const ArchiveOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = find_runs(open, options.runs);
    LedgerWriter ledger = LedgerWriter::open(options.ledger.directory);
    for (const RunRecord& run : runs) ledger.put_archived(run.id, !options.undo);
    print_runs(options.ledger, read_again(open, runs), options.undo ? "brought back" : "put away");
}

// Nothing is deleted without a word from somebody.
void confirm(const std::vector<RunRecord>& runs, bool yes) {
    if (yes) return;
    std::int64_t finished = 0;
    for (const RunRecord& run : runs) finished += run.state == RunState::finished;
    const std::string what = fmt::format("{} with their epochs, predictions and models, {} of them finished",
                                         plural(std::ssize(runs), "run"), finished);
    if (::isatty(STDIN_FILENO) == 0 || ::isatty(STDERR_FILENO) == 0)
        throw InputError(fmt::format(
            "this would delete {}; say --yes to do it, or 'jevrin archive' to put them away", what));
    fmt::print(stderr, "delete {}? type yes: ", what);
    std::string answer;
    std::getline(std::cin, answer);
    if (answer != "yes") throw InputError("nothing was deleted");
}

void delete_runs(const DeleteOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = find_runs(open, options.runs);
    confirm(runs, options.yes);
    LedgerWriter ledger = LedgerWriter::open(options.ledger.directory);
    for (const RunRecord& run : runs) ledger.delete_run(run.id);
    print_runs(options.ledger, runs, "deleted");
}

}  // namespace

void add_note(Command& command) {
    auto options = std::make_shared<NoteOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates").required();
    Option text = command.add_option("--text", options->text, "the note; an empty one removes it");
    text.type_name("TEXT");
    command.add_option("--tag", options->tags, "add a tag, one word").type_name("TAG");
    command.add_option("--untag", options->untags, "take a tag away").type_name("TAG");
    add_ledger_options(command, options->ledger);
    command.callback([options, text] {
        options->has_text = text.count() > 0;
        note(*options);
    });
}

void add_archive(Command& command) {
    auto options = std::make_shared<ArchiveOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates").required();
    command.add_flag("--undo", options->undo, "bring them back");
    add_ledger_options(command, options->ledger);
    command.callback([options] { archive(*options); });
}

void add_delete(Command& command) {
    auto options = std::make_shared<DeleteOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates").required();
    command.add_flag("--yes", options->yes, "without asking");
    add_ledger_options(command, options->ledger);
    command.callback([options] { delete_runs(*options); });
}

}  // namespace jevrin::app
