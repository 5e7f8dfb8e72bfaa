// The runs that a study lacks, given out to whoever is free: threads of this process and ranks of a job.
#pragma once

#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/planned_runs.hpp"
#include "jevrin/study/study.hpp"

#include <chrono>
#include <compare>
#include <cstddef>
#include <deque>
#include <functional>
#include <map>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Who trains: a thread of a rank.
struct RunWorker {
    int rank = 0;
    int thread = 0;
    auto operator<=>(const RunWorker&) const = default;
};

// A run that somebody trains, and what makes it theirs.
struct ClaimedRun {
    std::size_t place = 0;  // among the runs to train
    RunRecord record;
    PlaceLock claim;
};

// May be called by several threads, each with a writer of its own.
class StudyRuns {
  public:
    // runs to train, in the order in which they are given out, and their ids. over(place) is called for one
    // that needs no training any more.
    StudyRuns(std::vector<PlannedRun> runs, std::vector<RunId> ids, bool retry_failed, StudySummary& summary,
              std::function<void(std::size_t place)> over);

    const std::vector<PlannedRun>& runs() const { return runs_; }
    const PlannedRun& planned(std::size_t place) const { return runs_[place]; }

    // The next run; nothing while none is to be given out. What other processes train is looked at once more
    // at the end: they may have died.
    std::optional<ClaimedRun> take(LedgerWriter& writer, RunWorker worker);
    // Whether none is left and nobody trains one: what is trained may come back.
    bool all_done() const;

    // How a run ended: finished, failed with a reason, or left as it was saved, for somebody else.
    void finish(std::size_t place);
    void fail(std::size_t place, LedgerWriter& writer, const std::string& reason);
    void leave(std::size_t place);

    // A rank takes no further part: nothing is kept for it.
    void gone(int rank);

    // Whether a run had better go on on another rank: one that is idle and needs less than half the time for
    // an epoch of the same candidate. Asked at the end of each epoch. When it had, the run is kept for that
    // rank.
    bool should_move(std::size_t place, RunWorker worker, std::int64_t epochs_left);

    static bool is_finished(const Ledger& ledger, const RunRecord& run);

  private:
    std::optional<std::size_t> next(RunWorker worker);
    void put_aside(std::size_t place);
    void count(std::int64_t StudySummary::*what);

    const std::vector<PlannedRun> runs_;
    const std::vector<RunId> ids_;
    const bool retry_failed_;
    const std::function<void(std::size_t)> over_;
    mutable std::mutex mutex_;
    StudySummary& summary_;
    std::deque<std::size_t> open_;
    std::vector<std::size_t> elsewhere_;  // that other processes have
    bool looked_again_ = false;           // at these
    std::size_t taken_ = 0;
    struct Pace {
        std::int64_t epochs = 0;  // since it was taken
        std::chrono::steady_clock::time_point last;
    };
    std::map<std::size_t, Pace> paces_;                           // of places that are trained
    std::map<RunWorker, std::map<std::string, double>> seconds_;  // of an epoch, by candidate
    std::set<RunWorker> idle_;
    std::map<std::size_t, RunWorker> kept_for_;  // places; as long as that one is idle
};

}  // namespace jevrin::inline v1
