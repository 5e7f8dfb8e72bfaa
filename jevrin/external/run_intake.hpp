// Takes runs that were trained elsewhere into a ledger, piece by piece, in any order, as often as they come.
//
//     RunIntake intake(writer);
//     const RunId run = intake.create(statement).run;
//     intake.add_epoch(run, read_json(line, place), place);
//     intake.add_predictions(run, bytes, PredictionForm::csv, "predictions.csv");
//     intake.finish(run);
//
// Every call is one transaction, or a part of the one that is open (LedgerWriter::together()), and answers
// the same when it is repeated. Epochs may come in any order: one that comes early waits in the ledger for
// those before it. InputError says what does not fit; ConflictError, that something else is recorded already.
// One thread at a time.
#pragma once

#include "jevrin/external/external_model.hpp"
#include "jevrin/external/run_statement.hpp"
#include "jevrin/external/stated_predictions.hpp"
#include "jevrin/ledger/ledger_writer.hpp"

#include <cstdint>
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

// What is recorded already is something else.
class ConflictError : public InputError {
  public:
    using InputError::InputError;
};

// How far a run from elsewhere is.
struct IntakeState {
    RunRecord run;
    std::vector<std::int64_t> waiting;  // epochs that are kept until those before them come
    bool has_predictions = false;
};

// The study of this name, or the one trained last when it is empty; InputError when there is none.
StudyRecord study_called(const Ledger& ledger, const std::string& name);
// ConflictError when it was trained here.
IntakeState intake_state(const Ledger& ledger, RunId run);
ValidationRows rows_of_run(const Ledger& ledger, RunId run);

class RunIntake {
  public:
    explicit RunIntake(LedgerWriter& writer) : writer_(writer) {}

    struct Created {
        RunId run;
        bool is_new = false;
    };
    // InputError when the ledger has no such study or split. ConflictError when the study has a run of this
    // name with another statement, or one that was trained here.
    Created create(const RunStatement& statement);
    // False when it was recorded already.
    bool add_epoch(RunId run, const Json& epoch, const std::string& place);
    bool add_epoch(RunId run, const EpochStatement& epoch, const std::string& place);
    // Of the epoch whose weights are kept.
    bool add_predictions(RunId run, std::string_view bytes, PredictionForm form, const std::string& place);
    bool add_predictions(RunId run, const std::vector<PredictionRecord>& predictions,
                         const std::string& place);
    // best_epoch: whose predictions were added; 0: that with the best score on the validation part. With
    // predictions the run is finished, without them unverified. Predictions alone make a run of one epoch.
    bool finish(RunId run, std::int64_t best_epoch = 0);
    // A model of a run that has predictions, see read_external_model(); what predicting with it costs is
    // measured, unless the run states it. False when the run has a model.
    bool add_model(RunId run, const std::filesystem::path& file);
    // Of a model that is in its place.
    void put_model(RunId run, const StoredModel& model);
    bool fail(RunId run, const std::string& reason);
    IntakeState state(RunId run) const { return intake_state(writer_.ledger(), run); }
    // Those of this run.
    const ValidationRows& rows(RunId run);

  private:
    const Ledger& ledger() const { return writer_.ledger(); }
    RunRecord require_external(RunId run) const;
    // What add_epoch() needs to know of a run, from one to the next.
    struct OpenRun {
        std::string name;
        Metric metric = Metric::accuracy;
        std::int64_t epochs = 0;
        bool predicts_epochs = false;
        std::optional<std::pair<double, double>> best = {};  // score and loss
    };
    OpenRun& open_run(RunId run);
    void record(RunId id, OpenRun& run, const EpochStatement& statement);
    void record_those_waiting(RunId id, OpenRun& run);
    void note_claims(const RunRecord& run, const RecordedEpoch& best, const ConfusionMatrix& matrix);

    LedgerWriter& writer_;
    std::map<RunId, ValidationRows> rows_;
    std::map<RunId, OpenRun> open_;  // as of these changes of the ledger by others
    std::int64_t changes_ = -1;
};

}  // namespace jevrin::inline v1
