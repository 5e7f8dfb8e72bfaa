// One run in full: the plan that reproduces it, its environment, statistics of its layers.
#pragma once

#include "jevrin/results/form.hpp"

namespace jevrin::inline v1 {

struct RunResult {
    StudyRecord study;
    std::vector<TestLook> looks;
    RunRecord run;
    std::string plan;         // TOML; empty when none was recorded
    std::string settings;     // JSON
    std::string environment;  // JSON: versions, compiler, processor, threads
    std::int64_t epoch = 0;   // that the layers are of
    std::vector<LayerSummary> layers;
    std::vector<WarningRecord> warnings;
};
// epoch: the last unless given. InputError when the run does not have it.
RunResult report_run(const Ledger& ledger, const StudyRecord& study, const std::string& run,
                     std::optional<std::int64_t> epoch = std::nullopt);

std::string to_json(const RunResult& result);
// A plan that repeats the run, with the rest as comments; InputError when no plan was recorded.
std::string to_text(const RunResult& result, const TextForm& form = {});
// Its layers at that epoch; InputError when nothing is recorded about them.
std::string layers_text(const RunResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
