// Upkeep of recorded runs: tags, notes, archiving, deletion.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/ledger/statements.hpp"

namespace jevrin::inline v1 {
namespace {

// A tag is one word of the tables and filters that show it.
void require_tag(const std::string& tag) {
    constexpr std::size_t longest = 60;
    const bool plain = !tag.empty() && tag.size() <= longest &&
                       tag.find_first_of(", \t\n\r") == std::string::npos && printable(tag) == tag;
    if (!plain)
        throw InputError(
            fmt::format("'{}' cannot be a tag: a tag is one word of at most {} bytes without commas; a note "
                        "may be longer",
                        printable(tag), longest));
}

}  // namespace

bool LedgerWriter::add_tag(RunId run, const std::string& tag) {
    require_tag(tag);
    return in_transaction(*connection_, [&] {
        require_run(run);

        execute(*connection_->database, "INSERT OR IGNORE INTO run_tags VALUES (?, ?)", run, tag);
        return connection_->database->getChanges() > 0;
    });
}

bool LedgerWriter::remove_tag(RunId run, const std::string& tag) {
    return in_transaction(*connection_, [&] {
        require_run(run);

        execute(*connection_->database, "DELETE FROM run_tags WHERE run = ? AND tag = ?", run, tag);
        return connection_->database->getChanges() > 0;
    });
}

void LedgerWriter::put_note(RunId run, const std::string& note) {
    in_transaction(*connection_, [&] {
        require_run(run);
        execute(*connection_->database, "UPDATE runs SET note = ? WHERE id = ?", note, run);
    });
}

void LedgerWriter::put_archived(RunId run, bool archived) {
    in_transaction(*connection_, [&] {
        require_run(run);

        execute(*connection_->database, "UPDATE runs SET archived = ? WHERE id = ?", std::int64_t{archived},
                run);
    });
}

void LedgerWriter::delete_run(RunId run) {
    const std::optional<PlaceLock> ours = claim(run);
    if (!ours)
        throw InputError(fmt::format("run '{}' is being trained by a process now; stop that first",
                                     printable(ledger_.run_by_id(run).name())));
    in_transaction(*connection_, [&] {
        forget_records(run);
        execute(*connection_->database, "DELETE FROM run_tags WHERE run = ?", run);
        execute(*connection_->database,
                "UPDATE runs SET superseded = 1, archived = 0, note = '' WHERE id = ?", run);
    });
    std::error_code none;
    std::filesystem::remove(ledger_.checkpoint_file(run), none);
    for (const std::filesystem::path& file : ledger_.model_files(run)) std::filesystem::remove(file, none);
}

}  // namespace jevrin::inline v1
