// Resolves names of runs and candidates.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Runs that stand, or those that were archived as well.
enum class RunScope { standing, archived_too };

// The runs that these names mean, each once, in the order of the names: a run ("new head/1"), a candidate
// with all its runs, or the candidate of a plan with all its variants. Without names: all. InputError names
// the nearest one.
std::vector<RunRecord> runs_called(const Ledger& ledger, const StudyRecord& study,
                                   const std::vector<std::string>& names,
                                   RunScope scope = RunScope::standing);

// The one whose best epoch has the highest score by the metric, the first of equal ones; null when none has
// an epoch.
const RunRecord* best_run(const std::vector<RunRecord>& runs, Metric metric);

// The finished ones of them. InputError when a name means none that is finished, or none is at all.
std::vector<RunRecord> finished_runs_called(const Ledger& ledger, const StudyRecord& study,
                                            const std::vector<std::string>& names);

}  // namespace jevrin::inline v1
