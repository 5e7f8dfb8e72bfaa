// Where the records and the files of a run in training are kept: in the ledger of this process, or by the
// process of a job that has the ledger.
#pragma once

#include "jevrin/ledger/records.hpp"
#include "jevrin/study/epoch_note.hpp"
#include "jevrin/training/training_state.hpp"

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// How far a run came before.
struct RunPast {
    RunRecord record;
    std::vector<EpochRecord> curve;                 // of its epochs,
    std::vector<std::vector<LayerSummary>> layers;  // each
    // Where it was left: behind the last of these epochs. None: the run begins at its beginning.
    std::optional<TrainingState> state;
    std::string problem;  // why a state that there is cannot be used; empty: it can, or there is none
};

// Of one run. Functions throw WorkError when something cannot be written, or the run now belongs to another
// process; what was kept before stays.
class RunKeeper {
  public:
    virtual ~RunKeeper() = default;

    virtual RunPast past() = 0;
    // Forgets the epochs of a run whose state is lost, and gives what is left of its record.
    virtual RunRecord forget_epochs() = 0;
    // It is being trained from now on, by this plan, on this machine (environment_json()).
    virtual void begin(const std::string& plan, const std::string& environment) = 0;
    // The state between two epochs or within one.
    virtual void save(TrainingState state) = 0;
    // The state at the end of an epoch, whose note is in it. False: the run shall be left to somebody else.
    virtual bool finish_epoch(TrainingState state, const EpochNote& note) = 0;
    // Where several processes train a run together: what the one that has it says to a question that each
    // answers for itself.
    virtual bool agree(bool mine) { return mine; }
    // Whether the run belongs to this process; what follows is for that one.
    virtual bool keeps() const { return true; }
    // Where to write the model file of an epoch, or of the best weights (0); then say so with what follows.
    virtual std::filesystem::path model_file(std::int64_t epoch = 0) = 0;
    virtual void put_epoch_model(std::int64_t epoch) = 0;
    virtual void finish(const std::vector<PredictionRecord>& validation, const PredictionCost& cost) = 0;
};

}  // namespace jevrin::inline v1
