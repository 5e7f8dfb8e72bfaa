// The execution of one run: resumed from its checkpoint, trained to its end, each epoch recorded.
//
//     RunExecution execution(keeper, materials, planned, {.pool = pool}, events);
//     const RunRecord finished = execution.carry_out();
#pragma once

#include "jevrin/study/epoch_note.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/planned_runs.hpp"
#include "jevrin/study/run_keeper.hpp"
#include "jevrin/study/run_watch.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/classifier.hpp"

#include <functional>
#include <string>

namespace jevrin::inline v1 {

// What an execution tells as it goes; each may be empty.
struct RunEvents {
    // resumed_after: the epochs that were done before.
    std::function<void(const RunRecord& run, std::int64_t resumed_after)> started;
    std::function<void(const RunRecord& run, std::int64_t batch, std::int64_t batches)> progress;
    std::function<void(const RunRecord& run, const EpochNote& epoch)> epoch_finished;
    std::function<void(const std::string& message)> warning;
    std::function<bool()> stop_requested;
    // Calls work() when no other run uses the processors: for what is measured.
    std::function<void(const std::function<void()>& work)> alone;
};

struct RunExecutionOptions {
    FeaturePool* pool = nullptr;  // of features at the boundary; none: they are computed in each epoch
    bool keep_epochs = false;     // a model file of every epoch, not only of the best
    ShardLink* link = nullptr;    // of the ranks that train the run together
};

class RunExecution {
  public:
    // keeper: that of the run. Everything given must outlive this.
    RunExecution(RunKeeper& keeper, const Materials& materials, const PlannedRun& planned,
                 const RunExecutionOptions& options, const RunEvents& events);

    // Interrupted when asked to stop, or when the run is to be left to somebody else: the batch is finished
    // and the state saved. RunError when the run fails; it keeps its last good state.
    RunRecord carry_out();

  private:
    const Candidate& candidate() const { return *planned_.candidate; }
    bool is_over() const;
    std::int64_t resume();
    TrainingState state() const;
    bool finish_epoch(const EpochResult& result);
    void finish();
    struct VerifiedRows {
        std::size_t step = 1;  // between two rows of the predictions
        std::vector<std::vector<std::uint8_t>> fitted = {};
    };
    VerifiedRows rows_to_verify(const Predictions& predictions) const;
    void require_same_predictions(const std::filesystem::path& file, const Predictions& predictions,
                                  const VerifiedRows& rows) const;
    Classifier classifier(Network network) const;
    std::vector<PredictionRecord> prediction_records(const Predictions& predictions) const;

    RunKeeper& keeper_;
    const Materials& materials_;
    const PlannedRun& planned_;
    RunRecord record_;
    RunExecutionOptions options_;
    const RunEvents& events_;
    TrainingData data_;
    Scaling scaling_;
    RunTrainer trainer_;
    RunWatch watch_;
    double best_score_ = -1.0;
    double best_loss_ = 0.0;
    double seconds_ = 0.0;  // of all its epochs
    std::string note_;      // of the last epoch
};

}  // namespace jevrin::inline v1
