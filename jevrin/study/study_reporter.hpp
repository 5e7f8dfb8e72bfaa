// What a study tells its caller while it runs. One thread alone calls this.
#pragma once

#include "jevrin/study/epoch_note.hpp"
#include "jevrin/study/planned_runs.hpp"
#include "jevrin/study/study.hpp"
#include "jevrin/study/time_left.hpp"

#include <cstddef>
#include <map>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class StudyReporter {
  public:
    // runs and callbacks must outlive this; so many runs are trained at the same time.
    StudyReporter(const std::vector<PlannedRun>& runs, const StudyCallbacks& callbacks, std::size_t at_once)
        : runs_(runs), callbacks_(callbacks), time_left_(runs, at_once) {}

    // Places are among the runs.
    void started(std::size_t place, const RunRecord& run, std::int64_t resumed_after);
    void batch(std::size_t place, const RunRecord& run, std::int64_t batch, std::int64_t batches);
    void epoch(std::size_t place, const RunRecord& run, const EpochNote& note);
    void over(std::size_t place) { time_left_.skip(place); }
    void ended(const RunRecord& run);
    void warn(const std::string& message) const;

  private:
    void report(std::size_t place, const RunRecord& run);

    const std::vector<PlannedRun>& runs_;
    const StudyCallbacks& callbacks_;
    std::map<std::size_t, StudyPosition> positions_;
    TimeLeft time_left_;
};

}  // namespace jevrin::inline v1
