// Estimates the remaining time of a study from the epochs so far and the operations of the other runs.
#pragma once

#include "jevrin/study/planned_runs.hpp"

#include <cstdint>
#include <map>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {

struct StudyPosition;

class TimeLeft {
  public:
    // runs must outlive this; so many are trained at the same time.
    TimeLeft(const std::vector<PlannedRun>& runs, std::size_t at_once);

    // A run is trained now, and so many of its epochs are done.
    void begin(std::size_t run, std::int64_t epochs_done);
    // One more epoch of it, in so many seconds.
    void see_epoch(std::size_t run, double seconds);
    // Nothing is left of a run.
    void skip(std::size_t run);

    // Puts shares and times into the position of a run; so much of its epoch in progress is done.
    void fill(StudyPosition& position, std::size_t run, double epoch_share);

  private:
    struct Seen {
        double seconds = 0.0;
        double operations = 0.0;
        double epochs = 0.0;
    };
    // Of one epoch; nothing while no epoch was seen.
    std::optional<double> seconds_of_epoch(const PlannedRun& run) const;
    // Adds up what is left after something changed, so that fill() is cheap.
    void add_up();

    double work_of_epoch(std::size_t run) const;

    const std::vector<PlannedRun>& runs_;
    double at_once_;
    std::vector<std::int64_t> epochs_left_;
    std::map<std::size_t, double> shares_;  // of the epochs in progress
    std::map<std::string, Seen> by_candidate_;
    std::map<Regime, Seen> by_regime_;
    Seen all_;
    double left_ =
        0.0;  // of all runs, epochs in progress whole; seconds, or operations while nothing was seen
    double whole_ = 0.0;  // of all runs from their beginning, likewise
    bool known_ = false;
};

}  // namespace jevrin::inline v1
