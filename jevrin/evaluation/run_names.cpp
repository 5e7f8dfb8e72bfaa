#include "jevrin/evaluation/run_names.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

bool is_meant(const RunRecord& run, const std::string& name) {
    return run.name() == name || run.candidate == name || run.origin == name;
}

[[noreturn]] void throw_unknown(const std::vector<RunRecord>& runs, const std::string& name) {
    std::vector<std::string> known;
    for (const RunRecord& run : runs)
        for (const std::string& word : {run.origin, run.candidate, run.name()})
            if (std::find(known.begin(), known.end(), word) == known.end()) known.push_back(word);
    throw InputError(
        fmt::format("no run or candidate is called '{}'{}", printable(name), did_you_mean(name, known)));
}

bool is_unfinished(const RunRecord& run) {
    return run.state != RunState::finished;
}

}  // namespace

std::vector<RunRecord> runs_called(const Ledger& ledger, const StudyRecord& study,
                                   const std::vector<std::string>& names, RunScope scope) {
    std::vector<RunRecord> all = ledger.runs(study.id);
    if (scope == RunScope::archived_too)
        for (RunRecord& run : ledger.archived_runs(study.id)) all.push_back(std::move(run));
    if (names.empty()) return all;
    std::vector<RunRecord> found;
    for (const std::string& name : names) {
        bool known = false;
        for (const RunRecord& run : all) {
            if (!is_meant(run, name)) continue;
            known = true;
            const bool taken = std::any_of(found.begin(), found.end(),
                                           [&](const RunRecord& other) { return other.id == run.id; });
            if (!taken) found.push_back(run);
        }
        if (!known) throw_unknown(all, name);
    }
    return found;
}

const RunRecord* best_run(const std::vector<RunRecord>& runs, Metric metric) {
    const RunRecord* best = nullptr;
    for (const RunRecord& run : runs)
        if (run.best && run.state != RunState::unverified &&
            (best == nullptr || validation_score(*run.best, metric) > validation_score(*best->best, metric)))
            best = &run;
    return best;
}

std::vector<RunRecord> finished_runs_called(const Ledger& ledger, const StudyRecord& study,
                                            const std::vector<std::string>& names) {
    for (const std::string& name : names) {
        const std::vector<RunRecord> named = runs_called(ledger, study, {name});
        if (std::all_of(named.begin(), named.end(), is_unfinished))
            throw InputError(fmt::format("'{}' is not finished; train it first", printable(name)));
    }
    std::vector<RunRecord> found = runs_called(ledger, study, names);
    std::erase_if(found, is_unfinished);
    if (found.empty()) throw InputError("no run of this study is finished; run 'jevrin train PLAN'");
    return found;
}

}  // namespace jevrin::inline v1
