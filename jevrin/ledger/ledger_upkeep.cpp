// What is said of recorded runs afterwards: tags, notes, what is put away or deleted.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/transaction.hpp"

namespace jevrin {
namespace {

// A tag is one word of the tables and filters that show it.
void require_tag(const std::string& tag) {
    constexpr std::size_t longest = 60;
    const bool plain = !tag.empty() && tag.size() <= longest &&
                       tag.find_first_of(", \t\n\r") == std::string::npos && printable(tag) == tag;
    if (!plain)
        throw InputError(fmt::format(
            "'{}' cannot be a tag: a tag is one word of at most {} bytes without commas; use --note for text",
            printable(tag), longest));
}

}  // namespace

bool Ledger::add_tag(std::int64_t run, const std::string& tag) {
    require_tag(tag);
    return in_transaction(*database_, directory_, [&] {
        execute(*database_, "INSERT OR IGNORE INTO run_tags VALUES (?, ?)", run, tag);
        return database_->getChanges() > 0;
    });
}

bool Ledger::remove_tag(std::int64_t run, const std::string& tag) {
    return in_transaction(*database_, directory_, [&] {
        execute(*database_, "DELETE FROM run_tags WHERE run = ? AND tag = ?", run, tag);
        return database_->getChanges() > 0;
    });
}

void Ledger::put_note(std::int64_t run, const std::string& note) {
    in_transaction(*database_, directory_,
                   [&] { execute(*database_, "UPDATE runs SET note = ? WHERE id = ?", note, run); });
}

void Ledger::put_archived(std::int64_t run, bool archived) {
    in_transaction(*database_, directory_, [&] {
        execute(*database_, "UPDATE runs SET archived = ? WHERE id = ?", std::int64_t{archived}, run);
    });
}

void Ledger::delete_run(std::int64_t run) {
    const std::optional<PlaceLock> ours = claim(run);
    if (!ours)
        throw InputError(fmt::format("run '{}' is being trained by a process now; stop that first",
                                     printable(run_by_id(run).name())));
    in_transaction(*database_, directory_, [&] {
        forget_records(run);
        execute(*database_, "DELETE FROM run_tags WHERE run = ?", run);
        execute(*database_, "UPDATE runs SET superseded = 1, archived = 0, note = '' WHERE id = ?", run);
    });
    std::error_code none;
    std::filesystem::remove(checkpoint_file(run), none);
    for (const std::filesystem::path& file : model_files(run)) std::filesystem::remove(file, none);
}

std::vector<std::filesystem::path> Ledger::model_files(std::int64_t run) const {
    std::vector<std::filesystem::path> files;
    const std::string whole = model_file(run).filename().string();
    const std::string of_epochs = fmt::format("run-{}-epoch-", run);
    std::error_code none;
    for (const auto& entry : std::filesystem::directory_iterator(directory_ / "models", none)) {
        const std::string name = entry.path().filename().string();
        if (name == whole || name.starts_with(of_epochs)) files.push_back(entry.path());
    }
    return files;
}

}  // namespace jevrin
