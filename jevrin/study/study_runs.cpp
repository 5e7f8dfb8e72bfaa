#include "jevrin/study/study_runs.hpp"

#include <algorithm>
#include <filesystem>
#include <numeric>
#include <utility>

namespace jevrin::inline v1 {

StudyRuns::StudyRuns(std::vector<PlannedRun> runs, std::vector<RunId> ids, bool retry_failed,
                     StudySummary& summary, std::function<void(std::size_t)> over)
    : runs_(std::move(runs)),
      ids_(std::move(ids)),
      retry_failed_(retry_failed),
      over_(std::move(over)),
      summary_(summary),
      open_(runs_.size()) {
    std::iota(open_.begin(), open_.end(), std::size_t{0});
}

bool StudyRuns::is_finished(const Ledger& ledger, const RunRecord& run) {
    return run.state == RunState::finished && std::filesystem::exists(ledger.model_file(run.id));
}

std::optional<std::size_t> StudyRuns::next(RunWorker worker) {
    const std::lock_guard lock(mutex_);
    if (open_.empty() && taken_ == 0 && !looked_again_) {
        looked_again_ = true;
        open_.assign(elsewhere_.begin(), elsewhere_.end());
        elsewhere_.clear();
        summary_.elsewhere = 0;
    }
    const auto found = std::find_if(open_.begin(), open_.end(), [&](std::size_t place) {
        const auto kept = kept_for_.find(place);
        return kept == kept_for_.end() || kept->second == worker || !idle_.contains(kept->second);
    });
    if (found == open_.end()) {
        idle_.insert(worker);
        return std::nullopt;
    }
    const std::size_t place = *found;
    open_.erase(found);
    kept_for_.erase(place);
    idle_.erase(worker);
    paces_[place] = {};
    ++taken_;
    return place;
}

std::optional<ClaimedRun> StudyRuns::take(LedgerWriter& writer, RunWorker worker) {
    while (const std::optional<std::size_t> place = next(worker)) {
        std::optional<PlaceLock> claim = writer.claim(ids_[*place]);
        if (!claim) {
            put_aside(*place);
            continue;
        }
        RunRecord record = writer.ledger().run_by_id(ids_[*place]);
        const bool finished = is_finished(writer.ledger(), record);
        if (!finished && (record.state != RunState::failed || retry_failed_))
            return ClaimedRun{*place, std::move(record), std::move(*claim)};
        // Another process was faster.
        count(finished ? &StudySummary::already_finished : &StudySummary::failed_before);
        over_(*place);
    }
    return std::nullopt;
}

void StudyRuns::put_aside(std::size_t place) {
    const std::lock_guard lock(mutex_);
    elsewhere_.push_back(place);
    ++summary_.elsewhere;
    --taken_;
}

bool StudyRuns::all_done() const {
    const std::lock_guard lock(mutex_);
    return open_.empty() && taken_ == 0 && (looked_again_ || elsewhere_.empty());
}

void StudyRuns::count(std::int64_t StudySummary::*what) {
    const std::lock_guard lock(mutex_);
    ++(summary_.*what);
    --taken_;
}

void StudyRuns::finish(std::size_t place) {
    count(&StudySummary::trained);
    over_(place);
}

void StudyRuns::fail(std::size_t place, LedgerWriter& writer, const std::string& reason) {
    writer.fail_run(ids_[place], reason);
    count(&StudySummary::failed);
    over_(place);
}

void StudyRuns::leave(std::size_t place) {
    const std::lock_guard lock(mutex_);
    open_.push_front(place);
    --taken_;
}

void StudyRuns::gone(int rank) {
    const std::lock_guard lock(mutex_);
    std::erase_if(idle_, [&](const RunWorker& worker) { return worker.rank == rank; });
}

bool StudyRuns::should_move(std::size_t place, RunWorker worker, std::int64_t epochs_left) {
    const std::string& candidate = runs_[place].candidate->name;
    const auto now = std::chrono::steady_clock::now();
    const std::lock_guard lock(mutex_);
    Pace& pace = paces_[place];
    const double seconds = std::chrono::duration<double>(now - std::exchange(pace.last, now)).count();
    // The first epoch here may compute features that the others find.
    if (++pace.epochs == 1) return false;
    seconds_[worker][candidate] = seconds;
    if (!open_.empty() || epochs_left < 2) return false;
    const auto found = std::find_if(idle_.begin(), idle_.end(), [&](const RunWorker& idle) {
        const auto known = seconds_[idle].find(candidate);
        return idle.rank != worker.rank && known != seconds_[idle].end() && known->second < seconds / 2.0 &&
               std::none_of(kept_for_.begin(), kept_for_.end(),
                            [&](const auto& kept) { return kept.second == idle; });
    });
    if (found == idle_.end()) return false;
    kept_for_[place] = *found;
    return true;
}

}  // namespace jevrin::inline v1
