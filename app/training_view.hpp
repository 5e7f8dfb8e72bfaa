// Live progress of a study, and Ctrl-C that keeps what is finished.
#pragma once

#include "jevrin/study/study.hpp"

#include <filesystem>

namespace jevrin::app {

// Trains a plan with a bar, a line per finished epoch and a summary at the end.
StudySummary train_with_view(const Plan& plan, const std::filesystem::path& ledger_directory);

}  // namespace jevrin::app
