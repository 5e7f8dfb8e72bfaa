// Notes and tags of recorded runs, archiving and deletion.
#pragma once

#include "jevrin/results/form.hpp"

namespace jevrin::inline v1 {

struct KeptRunsResult {
    std::vector<RunRecord> runs;  // as they are now; deleted ones as they were
    std::string done;             // "noted", "archived", "deleted"; empty: they were only looked at
};

struct NoteChange {
    std::optional<std::string> text = std::nullopt;  // empty: the note is removed
    std::vector<std::string> add = {};               // tags
    std::vector<std::string> remove = {};
};

// Runs or candidates by their names, archived or not; all are found before anything is changed.
std::vector<RunRecord> kept_runs_called(const Ledger& ledger, const StudyRecord& study,
                                        const std::vector<std::string>& names);
// InputError for a tag to remove that a run does not have.
KeptRunsResult note_runs(const Ledger& ledger, const std::vector<RunRecord>& runs, const NoteChange& change);
KeptRunsResult put_runs_away(const Ledger& ledger, const std::vector<RunRecord>& runs);
KeptRunsResult bring_runs_back(const Ledger& ledger, const std::vector<RunRecord>& runs);
// With their epochs, predictions and models.
KeptRunsResult delete_runs(const Ledger& ledger, const std::vector<RunRecord>& runs);

std::string to_json(const KeptRunsResult& result);
std::string to_text(const KeptRunsResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
