// Executes a plan: trains its missing runs, the cheapest first, and resumes interrupted ones.
//
//     StudyCallbacks callbacks;
//     callbacks.epoch_finished = [](const RunRecord& run, const RecordedEpoch& epoch, bool best) { ... };
//     StudySummary summary = train_study(read_plan("glaze.toml"), "ledger", callbacks);
//
// Several processes may carry out the same plan on one ledger: each run belongs to the process that claims
// it, until it is finished or that process dies. The processes of one job (options.ranks) need no ledger in
// common: rank 0 calls train_study(), the others help_train() (study/rank_study.hpp).
#pragma once

#include "jevrin/ledger/ledger.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/study/gathering.hpp"
#include "jevrin/study/ranks.hpp"

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// The runs that are asked for. Names are those of a candidate, of the candidate it is a variant
// of, or of a run; until keeps everything up to the last run of that name. InputError for a name that nothing
// has.
struct Selection {
    std::vector<std::string> only = {};
    std::string until = {};
};

struct StudyOptions {
    Selection selection;           // which runs
    bool retry_failed = false;     // those that failed before are trained again, from their last good state
    bool keep_epochs = false;      // a model file of every epoch, not only of the best
    Stores stores = Stores::kept;  // left_out: images and features are computed whenever they are needed
    // Runs that are trained at the same time, each on a share of the threads; the records are the same. 0: as
    // many as there are threads and memory for.
    std::int64_t at_once = 0;
    // The other processes of a job, which train runs too. Must outlive the study.
    Ranks* ranks = nullptr;
    double ranks_patience = 60.0;  // seconds without a sign of a rank, after which the study stops
    // Those of them that train each run together with this one (Ranks::divide()); every run needs as many
    // shards.
    ShardLink* team = nullptr;
    bool mixed_processors = false;  // they may be of several kinds; then bits depend on who computes what
};

// Where a study stands while it runs. Times are estimated from what was seen so far, and negative while
// nothing was.
struct StudyPosition {
    std::int64_t run = 0;  // from 1, among the runs to train now
    std::int64_t runs = 0;
    double study_share = 0.0;      // of the work of these runs
    std::int64_t epochs_done = 0;  // of this run
    std::int64_t epochs = 0;
    std::int64_t batch = 0;  // done, of the epoch in progress
    std::int64_t batches = 0;
    double seconds_left = -1.0;  // of the whole study
    double run_seconds_left = -1.0;
    double epoch_seconds_left = -1.0;
};

// What train_study() found before it began.
struct StudyOutlook {
    std::int64_t to_train = 0;
    std::int64_t resumed = 0;  // of them, those that were started before
    std::int64_t finished = 0;
    std::int64_t failed = 0;      // and left alone
    std::int64_t superseded = 0;  // earlier runs with other settings, set aside
    std::int64_t at_once = 1;     // runs that are trained at the same time by this process
    std::int64_t ranks = 1;       // processes of the job
};

// Each may be empty. They are called from the thread that called train_study, except preparing.
struct StudyCallbacks {
    std::function<void(const std::string& what, std::int64_t done, std::int64_t total)> preparing;
    std::function<void(const StudyOutlook& outlook)> begun;
    std::function<void(const std::string& message)> warning;
    std::function<void(const RunRecord& run, std::int64_t resumed_after_epoch)> run_started;
    std::function<void(const RunRecord& run, const StudyPosition& position)> progress;
    std::function<void(const RunRecord& run, const RecordedEpoch& epoch, bool best)> epoch_finished;
    std::function<void(const RunRecord& run, const std::string& message)> run_warning;
    std::function<void(const RunRecord& run)> run_finished;  // finished or failed
    std::function<bool()> stop_requested;
};

struct StudySummary {
    StudyId study;
    std::int64_t already_finished = 0;
    std::int64_t trained = 0;
    std::int64_t failed = 0;         // now
    std::int64_t failed_before = 0;  // and not tried again
    std::int64_t elsewhere = 0;      // other processes are training them
    std::int64_t superseded = 0;     // earlier runs with other settings, set aside
};

// Trains every run of the plan that the ledger lacks, cheap ones first. InputError for a plan that cannot
// work, before anything is trained; Interrupted when asked to stop: the batch is finished and the state
// saved, so the next call continues behind it. A run that fails is recorded with its reason, keeps its last
// good state, and does not stop the others. InputError when options.at_once takes more memory than there is.
StudySummary train_study(const Plan& plan, const std::filesystem::path& ledger_directory,
                         const StudyCallbacks& callbacks = {}, const StudyOptions& options = {});

// Records the study of a plan in a ledger, its images and their parts, and trains nothing: what runs that are
// trained elsewhere belong to. InputError for a plan that cannot work.
void declare_study(const Plan& plan, const std::filesystem::path& ledger_directory,
                   const MaterialsProgress& progress = {});

// What there is to say about the finished runs of a plan as a whole: learning rates whose best value lies at
// the edge of three or more that were tried.
std::vector<std::string> study_warnings(const Ledger& ledger, StudyId study, const Plan& plan);

}  // namespace jevrin::inline v1
