#include "jevrin/comparison/ledger_difference.hpp"

#include "jevrin/comparison/run_table.hpp"

#include <algorithm>
#include <map>

namespace jevrin::inline v1 {
namespace {

std::optional<double> best_score(const RunRecord& run, Metric metric) {
    if (!run.best) return std::nullopt;
    return validation_score(*run.best, metric);
}

// A study's runs of one ledger, by name.
struct StudyRuns {
    std::optional<StudyRecord> study;
    std::vector<RunRecord> runs;

    StudyRuns(const Ledger& ledger, const std::string& name) {
        const std::vector<std::string> names = ledger.study_names();
        if (std::find(names.begin(), names.end(), name) == names.end()) return;
        study = ledger.study(name);
        runs = ledger.runs(study->id);
    }
    bool has(const std::string& name) const {
        for (const RunRecord& run : runs)
            if (run.name() == name) return true;
        return false;
    }
};

}  // namespace

std::vector<RunPair> compare_ledgers(const Ledger& first, const Ledger& second) {
    std::vector<std::string> studies = first.study_names();
    for (const std::string& name : second.study_names())
        if (std::find(studies.begin(), studies.end(), name) == studies.end()) studies.push_back(name);
    std::vector<RunPair> pairs;
    for (const std::string& name : studies) {
        const StudyRuns ours(first, name);
        const StudyRuns theirs(second, name);
        const Metric metric = ours.study ? ours.study->metric : theirs.study->metric;
        std::map<std::string, const RunRecord*> there;
        for (const RunRecord& run : theirs.runs) there[run.name()] = &run;
        for (const RunRecord& run : ours.runs) {
            RunPair pair{
                .study = name, .run = run.name(), .in_first = true, .first = best_score(run, metric)};
            if (const auto other = there.find(pair.run); other != there.end()) {
                pair.in_second = true;
                pair.second = best_score(*other->second, metric);
                std::vector<RunRow> rows = run_rows(first, {run});
                rows.push_back(run_rows(second, {*other->second}).front());
                pair.differing = differing_settings(rows);
                const std::string images = "images.fingerprint";
                if (rows[0].values[images] != rows[1].values[images]) pair.differing.push_back(images);
            }
            pairs.push_back(std::move(pair));
        }
        for (const RunRecord& run : theirs.runs)
            if (!ours.has(run.name()))
                pairs.push_back(
                    {.study = name, .run = run.name(), .in_second = true, .second = best_score(run, metric)});
    }
    return pairs;
}

}  // namespace jevrin::inline v1
