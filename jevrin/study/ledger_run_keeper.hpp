// A run in training whose records and files are kept in a ledger that this process writes.
#pragma once

#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/run_keeper.hpp"

#include <functional>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class LedgerRunKeeper : public RunKeeper {
  public:
    // claim: that of the run. validated: the ids of its validation items, in their order. goes_on is asked at
    // the end of each epoch whether the run goes on here; empty: it does. Writer and claim must outlive this.
    LedgerRunKeeper(LedgerWriter& writer, PlaceLock& claim, RunId run, std::vector<std::string> validated,
                    std::function<bool(const EpochNote&)> goes_on = {})
        : writer_(writer),
          claim_(claim),
          run_(run),
          validated_(std::move(validated)),
          goes_on_(std::move(goes_on)) {}

    RunPast past() override;
    RunRecord forget_epochs() override;
    void begin(const std::string& plan, const std::string& environment) override;
    void save(TrainingState state) override;
    bool finish_epoch(TrainingState state, const EpochNote& note) override;
    std::filesystem::path model_file(std::int64_t epoch = 0) override;
    void put_epoch_model(std::int64_t epoch) override;
    void finish(const std::vector<PredictionRecord>& validation, const PredictionCost& cost) override;

    // The same of a state that is a checkpoint already (checkpoint_bytes()).
    void save(std::span<const std::byte> checkpoint);
    // Of several runs of one ledger: their checkpoints, then all records in one transaction.
    struct FinishedEpoch {
        LedgerRunKeeper& keeper;
        std::span<const std::byte> checkpoint;
        EpochNote note;
    };
    static void finish_epochs(LedgerWriter& writer, const std::vector<FinishedEpoch>& finished);
    // Whose state a checkpoint is: of this run in this ledger.
    std::string owner() const;

  private:
    void require_own();
    void record(const EpochNote& note);

    LedgerWriter& writer_;
    PlaceLock& claim_;
    RunId run_;
    std::vector<std::string> validated_;
    std::function<bool(const EpochNote&)> goes_on_;
};

}  // namespace jevrin::inline v1
