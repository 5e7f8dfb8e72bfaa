#include "jevrin/results/kept_runs_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jevrin::inline v1 {
namespace {

KeptRunsResult read_again(const Ledger& ledger, const std::vector<RunRecord>& runs, std::string done) {
    KeptRunsResult result{.runs = {}, .done = std::move(done)};
    for (const RunRecord& run : runs) result.runs.push_back(ledger.run_by_id(run.id));
    return result;
}

KeptRunsResult put_archived(const Ledger& ledger, const std::vector<RunRecord>& runs, bool archived) {
    LedgerWriter writer = LedgerWriter::open(ledger.directory());
    for (const RunRecord& run : runs) writer.put_archived(run.id, archived);
    return read_again(ledger, runs, archived ? "archived" : "restored");
}

}  // namespace

std::vector<RunRecord> kept_runs_called(const Ledger& ledger, const StudyRecord& study,
                                        const std::vector<std::string>& names) {
    return runs_called(ledger, study, names, RunScope::archived_too);
}

KeptRunsResult note_runs(const Ledger& ledger, const std::vector<RunRecord>& runs, const NoteChange& change) {
    LedgerWriter writer = LedgerWriter::open(ledger.directory());
    for (const RunRecord& run : runs) {
        if (change.text) writer.put_note(run.id, *change.text);
        for (const std::string& tag : change.add) writer.add_tag(run.id, tag);
        for (const std::string& tag : change.remove)
            if (!writer.remove_tag(run.id, tag))
                throw InputError(fmt::format("run '{}' has no tag '{}'{}", printable(run.name()),
                                             printable(tag), did_you_mean(tag, run.tags)));
    }
    return read_again(ledger, runs, "noted");
}

KeptRunsResult put_runs_away(const Ledger& ledger, const std::vector<RunRecord>& runs) {
    return put_archived(ledger, runs, true);
}

KeptRunsResult bring_runs_back(const Ledger& ledger, const std::vector<RunRecord>& runs) {
    return put_archived(ledger, runs, false);
}

KeptRunsResult delete_runs(const Ledger& ledger, const std::vector<RunRecord>& runs) {
    LedgerWriter writer = LedgerWriter::open(ledger.directory());
    for (const RunRecord& run : runs) writer.delete_run(run.id);
    return {.runs = runs, .done = "deleted"};
}

std::string to_json(const KeptRunsResult& result) {
    Json json = Json::array();
    for (const RunRecord& run : result.runs)
        json.push_back(
            {{"run", run.name()}, {"tags", run.tags}, {"note", run.note}, {"archived", run.archived}});
    return document(json);
}

std::string to_text(const KeptRunsResult& result, const TextForm&) {
    std::string text;
    for (const RunRecord& run : result.runs) {
        if (!result.done.empty()) {
            text += fmt::format("{}: {}\n", result.done, printable(run.name()));
            continue;
        }
        text += fmt::format("{}: {}{}{}\n", printable(run.name()),
                            run.tags.empty() ? "no tags" : fmt::format("tags {}", fmt::join(run.tags, ", ")),
                            run.note.empty() ? "" : "; ", printable(run.note));
    }
    return text;
}

}  // namespace jevrin::inline v1
