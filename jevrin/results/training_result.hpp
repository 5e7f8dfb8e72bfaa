// The runs that a plan would train, what was trained, and the progress of a study.
#pragma once

#include "jevrin/results/form.hpp"
#include "jevrin/study/study.hpp"

#include <map>

namespace jevrin::inline v1 {

// What would be trained, in order, and what of it is done already.
struct PlannedRunRow {
    std::string run;
    Regime regime = Regime::scratch;
    std::string state;        // "new", or as spoken_state()
    std::int64_t epochs = 0;  // finished
    std::int64_t planned_epochs = 0;
    double fraction = 0.0;  // of the work
};
struct PlannedRunsResult {
    std::vector<PlannedRunRow> runs;
};
// ledger: what is already done; none: nothing.
PlannedRunsResult report_planned_runs(const Materials& materials, const Selection& selection,
                                      const Ledger* ledger);
std::string to_json(const PlannedRunsResult& result);
std::string to_text(const PlannedRunsResult& result, const TextForm& form = {});

// What there was to do, as train_study() found it.
std::string to_text(const StudyOutlook& outlook);
// What it did.
std::string to_text(const StudySummary& summary);

// A study at one moment.
struct StudyProgress {
    StudyRecord study;
    std::vector<RunRecord> runs;
    std::int64_t in_training = 0;
    std::int64_t open = 0;               // neither finished nor failed
    std::optional<double> seconds_left;  // of training; none while a candidate has no epoch yet
    double fraction = 0.0;               // of all epochs
};
StudyProgress report_progress(const Ledger& ledger, const StudyRecord& study);
// The same from runs at hand.
StudyProgress progress_of(const StudyRecord& study, std::vector<RunRecord> runs);
std::string to_json(const StudyProgress& progress);
// One line.
std::string to_text(const StudyProgress& progress, const TextForm& form = {});

// What happened in a study between two looks, each thing once.
class StudyFollower {
  public:
    struct News {
        std::vector<RunRecord> changed;                         // runs that are new or went on
        std::vector<std::pair<RunRecord, EpochRecord>> epochs;  // that were finished
        std::vector<std::pair<RunRecord, WarningRecord>> warnings;
        std::vector<RunRecord> failed;
        bool begun_anew = false;  // runs are gone, or began anew: what was known of them holds no more

        bool empty() const { return changed.empty() && !begun_anew; }
    };

    // ledger must outlive this.
    StudyFollower(const Ledger& ledger, StudyRecord study);
    // Since the last call, or since this was made. Only runs that went on are read.
    News news();
    // As of the last call.
    StudyProgress progress() const;

  private:
    struct Known {
        RunStamp stamp;
        RunRecord run;
        std::size_t warnings = 0;
    };
    const Ledger& ledger_;
    StudyRecord study_;
    std::map<RunId, Known> known_;
    std::vector<RunId> order_;  // of runs()
};

}  // namespace jevrin::inline v1
