// Writing into a ledger, over one connection with the Ledger that reads it.
//
//     LedgerWriter writer = LedgerWriter::open("ledger");
//     const StudyId study = writer.put_study("tiles", Metric::accuracy, set, parts);
//     const RunId run = writer.put_run(study, {.candidate = "mine", .seed = 1, .settings = "{}"});
//     writer.begin_run(run, "", "{}"); writer.record_epoch(run, epoch, best); writer.finish_run(run,
//     predictions);
//
// Several processes may write to one ledger: each call is one transaction, and a run belongs to who claims
// it. One writer serves one thread at a time.
//
// Functions throw InputError when the run or study does not exist, and WorkError when the disk is full or the
// ledger cannot be written; nothing is written half.
#pragma once

#include "jevrin/base/place_lock.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <functional>

namespace jevrin::inline v1 {

class LedgerWriter {
  public:
    // Makes the directory and an empty ledger when there is none, and brings an earlier version's up to date.
    static LedgerWriter open(const std::filesystem::path& directory);

    // What is written shows in it at once.
    const Ledger& ledger() const { return ledger_; }
    operator const Ledger&() const { return ledger_; }

    // WorkError when another ledger took the place of this one in its directory: before writing files beside
    // the database. Every transaction asks by itself.
    void require_in_place() const;

    // Records the study, its image set and its split, replacing those of an earlier plan of that name;
    // the study becomes the one trained last.
    // parts_settings (PartsSettings::key()) finds the places again when images are added.
    StudyId put_study(const std::string& name, Metric metric, const ImageSet& set, const Parts& parts,
                      const std::string& parts_settings = "");
    // The same for another split of the study's images: a fold.
    SplitId put_split(StudyId study, const ImageSet& set, const Parts& parts,
                      const std::string& parts_settings);
    // The smallest difference of scores that matters in a study, and up to how many seeds it may be given
    // (StudyRecord).
    void put_margin(StudyId study, double margin, std::int64_t most_seeds);
    // That the candidates of a study were compared with so many seeds.
    void put_seed_look(StudyId study, std::int64_t seeds);
    // The run with this identity, added when it is new. Runs of the same candidate, seed and fold with other
    // settings become superseded: they stay in the database and out of sight; superseded_count receives how
    // many.
    RunId put_run(StudyId study, const RunIdentity& identity, std::int64_t* superseded_count = nullptr);
    // The run belongs to whoever holds this, until they let go or die; nothing when somebody else has it.
    std::optional<PlaceLock> claim(RunId run);
    // One transaction: the run is being trained, by this plan and on this machine.
    void begin_run(RunId run, const std::string& plan, const std::string& environment);
    // One transaction: the epoch with its scores and confusion matrix, the layers and what there is to warn
    // about; best marks it as the one whose weights are kept. predicted: of every validation item, or none.
    void record_epoch(RunId run, const RecordedEpoch& epoch, bool best,
                      const std::vector<LayerSummary>& layers = {},
                      const std::vector<std::string>& warnings = {},
                      const std::vector<ItemPrediction>& predicted = {});
    // Forgets all epochs of a run, to train it from its beginning.
    void restart_run(RunId run);
    // The content hash of the model file of an epoch that is kept.
    void put_epoch_model(RunId run, std::int64_t epoch, const std::string& hash);
    // One transaction: the state, the predictions of the best weights on the validation part, and the content
    // hash of their model file, when there is one.
    void finish_run(RunId run, const std::vector<PredictionRecord>& validation,
                    const std::string& model_hash = "", const std::optional<PredictionCost>& cost = {});
    void fail_run(RunId run, const std::string& reason);
    // One transaction: predictions of the best weights on the test part (empty: of others, which are not
    // kept), and that it was looked at.
    void record_test_look(RunId run, const std::vector<PredictionRecord>& test);
    // That these images, of a test part, were looked at in another way: "features", "classify", "parts".
    void record_look(const std::string& what, const std::vector<ContentHash>& images);
    // Carries out several writes as one transaction: all of them, or none.
    void together(const std::function<void()>& writes);
    // That a run was trained elsewhere, and what is known of it: JSON as it was stated.
    void put_external(RunId run, const std::string& stated);
    // Keeps what such a run stated of an epoch, replacing what it stated before.
    void put_external_epoch(RunId run, const ExternalEpoch& epoch);
    // What it predicted for its validation part, before it is finished.
    void put_validation_predictions(RunId run, const std::vector<PredictionRecord>& predictions);
    // The content hash of its model file, and what predicting with it costs.
    void put_model(RunId run, const std::string& hash, const PredictionCost& cost);
    // That it is over, and came without predictions.
    void finish_unverified(RunId run);
    // The validation part's scores at an epoch, now that its counts are known.
    void put_matrix(RunId run, std::int64_t epoch, const ConfusionMatrix& matrix);
    void put_warning(RunId run, std::int64_t epoch, const std::string& message);
    // Which epoch's weights are kept.
    void put_best_epoch(RunId run, std::int64_t epoch);
    // Adds the mark, or replaces what was marked for that item.
    void put_mark(StudyId study, const MarkRecord& mark);
    // False when the item was not marked.
    bool remove_mark(StudyId study, const std::string& item);
    // False when the run had the tag already, or did not have it.
    bool add_tag(RunId run, const std::string& tag);
    bool remove_tag(RunId run, const std::string& tag);
    void put_note(RunId run, const std::string& note);
    // Puts a run away, or brings it back.
    void put_archived(RunId run, bool archived);
    // Forgets all that a run recorded and removes its model and checkpoint. What stays is that the test part
    // was looked at with it; when its plan asks for it, it is trained again. InputError while a process
    // trains it.
    void delete_run(RunId run);
    // Copies studies, runs, models and checkpoints of another ledger that this one lacks. Of a run that both
    // have, the one that is further is kept: the finished one, or that with more epochs, or else ours. Tags
    // and looks at the test part are joined. One transaction: interrupted it has done nothing, repeated it
    // does nothing more. Stores are left out: they are made again.
    MergeSummary merge(const Ledger& other);

  private:
    explicit LedgerWriter(std::shared_ptr<LedgerConnection> connection)
        : connection_(connection), ledger_(std::move(connection)) {}

    void require_run(RunId run) const;
    void forget_records(RunId run);
    void put_model_hash(RunId run, std::int64_t epoch, const std::string& hash);
    void put_cost(RunId run, const PredictionCost& cost);
    void put_cross_fitted(RunId run);
    void put_predictions(RunId run, Part part, const std::vector<PredictionRecord>& predictions);
    // A run of another ledger, with our numbers of what it belongs to.
    struct ForeignRun {
        RunId id;
        StudyId study;
        SplitId split;
        bool superseded = false;
    };
    struct MergedRun {
        RunId ours;
        bool copied = false;  // its records and models are to follow
    };
    MergedRun merge_run(const ForeignRun& foreign, MergeSummary& summary);

    std::shared_ptr<LedgerConnection> connection_;
    Ledger ledger_;
};

}  // namespace jevrin::inline v1
