// Live progress of a study; Ctrl-C saves a checkpoint.
#pragma once

#include "jevrin/study/rank_study.hpp"
#include "jevrin/study/study.hpp"

#include <filesystem>
#include <string>

namespace jevrin::app {

// Trains a plan with bars for the study, the run and the epoch, and a line per finished epoch.
StudySummary train_with_view(const Plan& plan, const std::filesystem::path& ledger_directory,
                             const StudyOptions& options = {});

// Trains what rank 0 of the job gives this rank, silently. A signal saves what is trained.
void help_train_until_done(Ranks& ranks, HelpOptions options);

// "new head/2  epoch   3/15  loss 0.4120 training 0.5231 validation  ...": one finished epoch.
std::string epoch_line(const RunRecord& run, const EpochRecord& epoch, Metric metric, bool best,
                       std::size_t name_width);

}  // namespace jevrin::app
