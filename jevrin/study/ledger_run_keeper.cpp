#include "jevrin/study/ledger_run_keeper.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/training/checkpoint.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

// The last epoch that the ledger and the checkpoint agree on.
RunPast LedgerRunKeeper::past() {
    const Ledger& ledger = writer_.ledger();
    const std::filesystem::path file = ledger.checkpoint_file(run_);
    RunPast past{.record = ledger.run_by_id(run_)};
    if (!std::filesystem::exists(file)) return past;
    try {
        TrainingState state = read_checkpoint(file);
        if (!state.owner.empty() && state.owner != owner())
            throw InputError(
                fmt::format("{}: this is the checkpoint of another run or ledger; the run is "
                            "trained from its beginning",
                            printable(file.string())));
        const std::optional<EpochNote> note = note_from_text(state.note);
        if (note && state.epochs_done == past.record.epochs + 1) record(*note);
        past.record = ledger.run_by_id(run_);
        if (state.epochs_done != past.record.epochs) return past;
        past.state = std::move(state);
        past.curve = ledger.curve(run_);
        for (const EpochRecord& epoch : past.curve) past.layers.push_back(ledger.layers(run_, epoch.epoch));
    } catch (const InputError& error) {
        past.problem = error.what();
    }
    return past;
}

RunRecord LedgerRunKeeper::forget_epochs() {
    writer_.restart_run(run_);
    return writer_.ledger().run_by_id(run_);
}

void LedgerRunKeeper::begin(const std::string& plan, const std::string& environment) {
    writer_.begin_run(run_, plan, environment);
}

// That the ledger is still the one that was opened, and the run still ours: before files are written.
void LedgerRunKeeper::require_own() {
    writer_.require_in_place();
    if (!claim_.renew())
        throw WorkError(
            fmt::format("another process trains '{}' now, since the file 'claims' of the ledger was "
                        "deleted; leave that file where it is",
                        printable(writer_.ledger().run_by_id(run_).name())));
}

std::string LedgerRunKeeper::owner() const {
    return writer_.ledger().checkpoint_owner(run_);
}

void LedgerRunKeeper::save(TrainingState state) {
    require_own();
    state.owner = owner();
    write_checkpoint(writer_.ledger().checkpoint_file(run_), state);
}

void LedgerRunKeeper::save(std::span<const std::byte> checkpoint) {
    require_own();
    write_file(writer_.ledger().checkpoint_file(run_), checkpoint);
}

bool LedgerRunKeeper::finish_epoch(TrainingState state, const EpochNote& note) {
    save(std::move(state));
    record(note);
    return !goes_on_ || goes_on_(note);
}

void LedgerRunKeeper::finish_epochs(LedgerWriter& writer, const std::vector<FinishedEpoch>& finished) {
    for (const FinishedEpoch& epoch : finished) epoch.keeper.save(epoch.checkpoint);
    writer.together([&] {
        for (const FinishedEpoch& epoch : finished) epoch.keeper.record(epoch.note);
    });
}

void LedgerRunKeeper::record(const EpochNote& note) {
    std::vector<ItemPrediction> predicted;
    for (std::size_t i = 0; i < note.predicted.size(); ++i)
        predicted.push_back({validated_.at(i), note.predicted[i]});
    writer_.record_epoch(run_, note.epoch, note.best, note.layers, note.warnings, predicted);
}

std::filesystem::path LedgerRunKeeper::model_file(std::int64_t epoch) {
    require_own();
    return epoch == 0 ? writer_.ledger().model_file(run_) : writer_.ledger().model_file(run_, epoch);
}

void LedgerRunKeeper::put_epoch_model(std::int64_t epoch) {
    writer_.put_epoch_model(run_, epoch, content_hash_of_file(writer_.ledger().model_file(run_, epoch)));
}

void LedgerRunKeeper::finish(const std::vector<PredictionRecord>& validation, const PredictionCost& cost) {
    writer_.finish_run(run_, validation, content_hash_of_file(writer_.ledger().model_file(run_)), cost);
    std::error_code ignored;
    std::filesystem::remove(writer_.ledger().checkpoint_file(run_), ignored);
}

}  // namespace jevrin::inline v1
