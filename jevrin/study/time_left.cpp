#include "jevrin/study/time_left.hpp"

#include "jevrin/study/study.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

TimeLeft::TimeLeft(const std::vector<PlannedRun>& runs, std::size_t at_once)
    : runs_(runs), at_once_(static_cast<double>(at_once)) {
    for (const PlannedRun& run : runs) epochs_left_.push_back(run.epochs);
    add_up();
}

void TimeLeft::begin(std::size_t run, std::int64_t epochs_done) {
    shares_[run] = 0.0;
    epochs_left_[run] = std::max<std::int64_t>(0, runs_[run].epochs - epochs_done);
    add_up();
}

void TimeLeft::see_epoch(std::size_t run, double seconds) {
    const PlannedRun& planned = runs_[run];
    for (Seen* seen :
         {&by_candidate_[planned.candidate->name], &by_regime_[planned.candidate->regime], &all_}) {
        seen->seconds += seconds;
        seen->operations += planned.epoch_operations;
        seen->epochs += 1.0;
    }
    shares_[run] = 0.0;
    epochs_left_[run] = std::max<std::int64_t>(0, epochs_left_[run] - 1);
    add_up();
}

void TimeLeft::skip(std::size_t run) {
    shares_.erase(run);
    epochs_left_[run] = 0;
    add_up();
}

// What is known of the same candidate counts most; then what its regime needs for each operation, since
// kept features and whole networks run at different speeds.
std::optional<double> TimeLeft::seconds_of_epoch(const PlannedRun& run) const {
    if (const auto seen = by_candidate_.find(run.candidate->name); seen != by_candidate_.end())
        return seen->second.seconds / seen->second.epochs;
    const auto regime = by_regime_.find(run.candidate->regime);
    const Seen& like = regime != by_regime_.end() ? regime->second : all_;
    if (like.operations <= 0.0) return std::nullopt;
    return like.seconds / like.operations * run.epoch_operations;
}

// In operations while nothing was seen.
double TimeLeft::work_of_epoch(std::size_t run) const {
    return seconds_of_epoch(runs_[run]).value_or(runs_[run].epoch_operations);
}

void TimeLeft::add_up() {
    left_ = whole_ = 0.0;
    known_ = true;
    for (std::size_t i = 0; i < runs_.size(); ++i) {
        const auto seconds = seconds_of_epoch(runs_[i]);
        known_ = known_ && seconds.has_value();
        const double each = seconds.value_or(runs_[i].epoch_operations);
        left_ += each * static_cast<double>(epochs_left_[i]);
        whole_ += each * static_cast<double>(runs_[i].epochs);
    }
}

void TimeLeft::fill(StudyPosition& position, std::size_t run, double epoch_share) {
    const double done = epochs_left_[run] == 0 ? 0.0 : epoch_share;
    shares_[run] = done;
    double left = left_;
    for (const auto& [other, share] : shares_) left -= share * work_of_epoch(other);
    position.study_share = whole_ > 0.0 ? std::clamp(1.0 - left / whole_, 0.0, 1.0) : 0.0;
    position.seconds_left = known_ ? std::max(0.0, left) / at_once_ : -1.0;
    position.run_seconds_left = position.epoch_seconds_left = -1.0;
    if (all_.epochs == 0.0) return;
    const double epoch = work_of_epoch(run);
    position.run_seconds_left = epoch * (static_cast<double>(epochs_left_[run]) - done);
    position.epoch_seconds_left = epoch * (1.0 - epoch_share);
}

}  // namespace jevrin::inline v1
