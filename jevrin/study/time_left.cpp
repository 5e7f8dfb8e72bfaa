#include "jevrin/study/time_left.hpp"

#include "jevrin/study/study.hpp"

#include <algorithm>

namespace jevrin {

TimeLeft::TimeLeft(const std::vector<PlannedRun>& runs) : runs_(runs) {
    for (const PlannedRun& run : runs) epochs_left_.push_back(run.epochs);
}

void TimeLeft::begin(std::size_t run, std::int64_t epochs_done) {
    current_ = run;
    epochs_left_[run] = std::max<std::int64_t>(0, runs_[run].epochs - epochs_done);
}

void TimeLeft::see_epoch(double seconds) {
    const PlannedRun& run = runs_[current_];
    for (Seen* seen : {&by_candidate_[run.candidate->name], &by_regime_[run.candidate->regime], &all_}) {
        seen->seconds += seconds;
        seen->operations += run.epoch_operations;
        seen->epochs += 1.0;
    }
    epochs_left_[current_] = std::max<std::int64_t>(0, epochs_left_[current_] - 1);
}

void TimeLeft::skip(std::size_t run) {
    epochs_left_[run] = 0;
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

void TimeLeft::fill(StudyPosition& position, double epoch_share) const {
    double left = 0.0;
    double all = 0.0;
    bool known = true;
    for (std::size_t i = 0; i < runs_.size(); ++i) {
        const auto seconds = seconds_of_epoch(runs_[i]);
        known = known && seconds.has_value();
        const double each = seconds.value_or(runs_[i].epoch_operations);
        const double epochs = static_cast<double>(epochs_left_[i]) - (i == current_ ? epoch_share : 0.0);
        left += each * std::max(0.0, epochs);
        all += each * static_cast<double>(runs_[i].epochs);
    }
    position.study_share = all > 0.0 ? std::clamp(1.0 - left / all, 0.0, 1.0) : 0.0;
    position.seconds_left = known ? left : -1.0;
    position.run_seconds_left = position.epoch_seconds_left = -1.0;
    if (const auto each = runs_.empty() ? std::nullopt : seconds_of_epoch(runs_[current_])) {
        const double epochs = static_cast<double>(epochs_left_[current_]) - epoch_share;
        position.run_seconds_left = *each * std::max(0.0, epochs);
        position.epoch_seconds_left = *each * (1.0 - epoch_share);
    }
}

}  // namespace jevrin
