// ledger note, ledger archive, ledger delete: upkeep of recorded runs.
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/kept_runs_result.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <iostream>

namespace jevrin::app {
namespace {

struct NoteOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::string text;
    NoteChange change;
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

void note(const NoteOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = kept_runs_called(open.ledger, open.study, options.runs);
    const NoteChange& change = options.change;
    const bool changes = change.text || !change.add.empty() || !change.remove.empty();
    present(changes ? note_runs(open.ledger, runs, change) : KeptRunsResult{.runs = runs, .done = {}},
            {.json = options.ledger.json});
}

void archive(const ArchiveOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = kept_runs_called(open.ledger, open.study, options.runs);
    present(options.undo ? bring_runs_back(open.ledger, runs) : put_runs_away(open.ledger, runs),
            {.json = options.ledger.json});
}

// Nothing is deleted without a word from somebody.
void confirm(const std::vector<RunRecord>& runs, bool yes) {
    if (yes) return;
    std::int64_t finished = 0;
    for (const RunRecord& run : runs) finished += run.state == RunState::finished;
    const std::string what = fmt::format("{} ({} finished) with all epochs, predictions and models",
                                         plural(std::ssize(runs), "run"), finished);
    if (::isatty(STDIN_FILENO) == 0 || ::isatty(STDERR_FILENO) == 0)
        throw InputError(fmt::format(
            "this would delete {}; add --yes to confirm, or hide them with 'jevrin ledger archive'", what));
    print_error(fmt::format("delete {}? type yes: ", what));
    std::string answer;
    std::getline(std::cin, answer);
    if (answer != "yes") throw InputError("nothing was deleted");
}

void delete_called(const DeleteOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = kept_runs_called(open.ledger, open.study, options.runs);
    confirm(runs, options.yes);
    present(delete_runs(open.ledger, runs), {.json = options.ledger.json});
}

}  // namespace

void add_ledger_note(Command& command) {
    auto options = std::make_shared<NoteOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates").required();
    Option text = command.add_option("--text", options->text, "the note; empty text removes it");
    text.type_name("TEXT");
    command.add_option("--tag", options->change.add, "add a tag, one word").type_name("TAG");
    command.add_option("--untag", options->change.remove, "remove a tag").type_name("TAG");
    add_ledger_options(command, options->ledger);
    command.callback([options, text] {
        if (text.count() > 0) options->change.text = options->text;
        note(*options);
    });
}

void add_ledger_archive(Command& command) {
    auto options = std::make_shared<ArchiveOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates").required();
    command.add_flag("--undo", options->undo, "show them again");
    add_ledger_options(command, options->ledger);
    command.callback([options] { archive(*options); });
}

void add_ledger_delete(Command& command) {
    auto options = std::make_shared<DeleteOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates").required();
    command.add_flag("--yes", options->yes, "do not ask for confirmation");
    add_ledger_options(command, options->ledger);
    command.callback([options] { delete_called(*options); });
}

}  // namespace jevrin::app
