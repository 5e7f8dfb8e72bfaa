// The runs of a study: a row each, or each group, filtered and sorted by any setting.
#pragma once

#include "jevrin/comparison/run_table.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"

namespace jevrin::inline v1 {

struct RunsQuery {
    std::vector<std::string> conditions = {};  // keep_where(): all must hold
    std::vector<std::string> tags = {};
    std::string sort = {};   // sort_by()
    bool differing = false;  // the settings that are not the same in all, instead of the scores
    bool archived = false;   // those that were archived, instead of those that stand
};

struct RunsResult {
    StudyRecord study;
    std::vector<TestLook> looks;
    std::vector<RunRow> rows;
    std::vector<std::string> differing;  // keys, when they were asked for
    bool shows_differing = false;
    std::int64_t put_away = 0;  // that are not shown
};
// InputError for a condition or key that means nothing.
RunsResult report_runs(const Ledger& ledger, const StudyRecord& study, const RunsQuery& query = {});

std::string to_json(const RunsResult& result);
// Every run with every setting.
ResultTable to_table(const RunsResult& result);
std::string to_text(const RunsResult& result, const TextForm& form = {});

// A row for each value of a key.
struct RunGroupsResult {
    std::string key;
    Metric metric = Metric::balanced_accuracy;
    std::vector<RunGroup> groups;
};
RunGroupsResult group_runs(const RunsResult& result, const std::string& key);
std::string to_json(const RunGroupsResult& result);
std::string to_text(const RunGroupsResult& result, const TextForm& form = {});

// "training", or "interrupted" when no process works on it.
std::string spoken_state(const RunRecord& run);
// How many of a study's runs are finished and the best of those that are compared, then a line per run.
std::string runs_text(const std::vector<RunRecord>& runs, const StudyRecord& study,
                      const TextForm& form = {});

}  // namespace jevrin::inline v1
