// Carrying a plan out: which runs are missing, in what order, resumed where they stopped.
//
//     StudyCallbacks callbacks;
//     callbacks.epoch_finished = [](const RunRecord& run, const EpochRecord& epoch, bool best) { ... };
//     StudySummary summary = train_study(read_plan("glaze.toml"), "ledger", callbacks);
#pragma once

#include "jevrin/ledger/ledger.hpp"
#include "jevrin/plan/plan.hpp"

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace jevrin {

// Where a study stands while it runs.
struct StudyPosition {
    std::int64_t run = 0;  // from 1, among the runs to train now
    std::int64_t runs = 0;
    std::int64_t epochs_done = 0;  // of this run
    std::int64_t epochs = 0;
    double batch_share = 0.0;   // of the epoch in progress
    double seconds_left = 0.0;  // of the whole study, from the epochs seen so far; negative while unknown
};

// Each may be empty. They are called from the thread that called train_study, except preparing.
struct StudyCallbacks {
    std::function<void(const std::string& what, std::int64_t done, std::int64_t total)> preparing;
    std::function<void(const std::string& message)> warning;
    std::function<void(const RunRecord& run, std::int64_t resumed_after_epoch)> run_started;
    std::function<void(const RunRecord& run, const StudyPosition& position)> progress;
    std::function<void(const RunRecord& run, const EpochRecord& epoch, bool best)> epoch_finished;
    std::function<void(const RunRecord& run)> run_finished;  // finished or failed
    std::function<bool()> stop_requested;
};

struct StudySummary {
    std::int64_t study = 0;
    std::int64_t already_finished = 0;
    std::int64_t trained = 0;
    std::int64_t failed = 0;
    std::int64_t superseded = 0;  // earlier runs with other settings, set aside
};

// Trains every run of the plan that the ledger lacks, cheap regimes first. InputError for a plan that cannot
// work, before anything is trained; WorkError when another process trains on this ledger; Interrupted when
// asked to stop (finished epochs are kept). A run that fails is recorded with its reason and does not stop
// the others.
StudySummary train_study(const Plan& plan, const std::filesystem::path& ledger_directory,
                         const StudyCallbacks& callbacks = {});

}  // namespace jevrin
