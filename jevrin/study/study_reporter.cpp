#include "jevrin/study/study_reporter.hpp"

namespace jevrin::inline v1 {

void StudyReporter::started(std::size_t place, const RunRecord& run, std::int64_t resumed_after) {
    positions_[place] = {.run = static_cast<std::int64_t>(place) + 1,
                         .runs = std::ssize(runs_),
                         .epochs_done = run.epochs,
                         .epochs = runs_[place].epochs};
    time_left_.begin(place, run.epochs);
    if (callbacks_.run_started) callbacks_.run_started(run, resumed_after);
}

void StudyReporter::batch(std::size_t place, const RunRecord& run, std::int64_t batch, std::int64_t batches) {
    positions_[place].batch = batch;
    positions_[place].batches = batches;
    report(place, run);
}

void StudyReporter::epoch(std::size_t place, const RunRecord& run, const EpochNote& note) {
    positions_[place].epochs_done = note.epoch.epoch;
    positions_[place].batch = 0;
    time_left_.see_epoch(place, note.epoch.seconds);
    if (callbacks_.epoch_finished) callbacks_.epoch_finished(run, note.epoch, note.best);
    for (const std::string& message : note.warnings)
        if (callbacks_.run_warning) callbacks_.run_warning(run, message);
    report(place, run);
}

void StudyReporter::ended(const RunRecord& run) {
    if (callbacks_.run_finished) callbacks_.run_finished(run);
}

void StudyReporter::warn(const std::string& message) const {
    if (callbacks_.warning) callbacks_.warning(message);
}

void StudyReporter::report(std::size_t place, const RunRecord& run) {
    if (!callbacks_.progress) return;
    StudyPosition& position = positions_[place];
    const double of_epoch = position.batches == 0
                                ? 0.0
                                : static_cast<double>(position.batch) / static_cast<double>(position.batches);
    time_left_.fill(position, place, of_epoch);
    callbacks_.progress(run, position);
}

}  // namespace jevrin::inline v1
