// The runs of a study as a table.
#pragma once

#include "jevrin/ledger/records.hpp"

#include <string>
#include <vector>

namespace jevrin::app {

// "training", or "interrupted" when no process works on it.
std::string spoken_state(const RunRecord& run);

// The verdict, then a line per run.
std::string runs_table(const std::vector<RunRecord>& runs, Metric metric);

}  // namespace jevrin::app
