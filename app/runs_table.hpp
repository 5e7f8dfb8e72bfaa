// The runs of a study as a table.
#pragma once

#include "jevrin/ledger/records.hpp"

#include <string>
#include <vector>

namespace jevrin::app {

// The verdict, then a line per run.
std::string runs_table(const std::vector<RunRecord>& runs, Metric metric);

}  // namespace jevrin::app
