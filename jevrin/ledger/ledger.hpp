// The ledger: the directory that keeps all runs, for reading. ledger_writer.hpp writes.
//
// DIR/ledger.db is an SQLite database (docs/formats.md documents its tables), DIR/models/ holds the finished
// models and DIR/checkpoints/ the state of runs in progress. Every change is one transaction: after a crash
// the ledger holds whole epochs and nothing else.
//
//     const Ledger ledger = Ledger::open("ledger");
//     const StudyRecord study = ledger.study();              // the one trained last
//     for (const RunRecord& run : ledger.runs(study.id)) ... ledger.curve(run.id) ...
//
// A ledger may be read by any number of threads and processes while others write to it; each thread opens its
// own Ledger, since one object and its copies share a connection that serves one thread at a time.
//
// Functions throw InputError when the run, study or item does not exist or the database is damaged, and
// WorkError when it cannot be read; both name the file.
#pragma once

#include "jevrin/base/error.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/ledger/records.hpp"
#include "jevrin/training/layer_summary.hpp"

#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct LedgerConnection;

// A run, study or split that a ledger does not hold.
class NoRow : public InputError {
  public:
    using InputError::InputError;
};

class Ledger {
  public:
    // InputError when there is no ledger, it is damaged, or another version of Jevrin wrote it: 'train'
    // brings earlier ones up to date.
    static Ledger open(const std::filesystem::path& directory);

    // Whether there is one.
    static bool exists(const std::filesystem::path& directory);

    const std::filesystem::path& directory() const;
    // Another number whenever another process, or another Ledger, has changed something; it costs next to
    // nothing. Whether a run is being trained (RunRecord::claimed) changes without it.
    std::int64_t changes() const;
    std::filesystem::path model_file(RunId run) const;
    // Of one epoch, when it was kept.
    std::filesystem::path model_file(RunId run, std::int64_t epoch) const;
    // Of the best weights, and of epochs that were kept.
    std::vector<std::filesystem::path> model_files(RunId run) const;
    std::filesystem::path checkpoint_file(RunId run) const;
    // What may be deleted at any time: images and what reading files found out.
    static std::filesystem::path stores(const std::filesystem::path& directory) {
        return directory / "stores";
    }

    // The study of this name, or the one trained last when the name is empty. InputError when there is none.
    StudyRecord study(const std::string& name = "") const;
    std::vector<std::string> study_names() const;
    // Runs that stand (superseded and archived ones are left out), by candidate in order of first appearance,
    // then seed.
    std::vector<RunRecord> runs(StudyId study) const;
    std::vector<RunRecord> archived_runs(StudyId study) const;
    // How far each of runs() is, in the order of their numbers: what there is to see between two looks, at a
    // fraction of the time.
    std::vector<RunStamp> run_stamps(StudyId study) const;
    // The run called "candidate/seed" or "candidate/seed/fold", archived or not; InputError names the nearest
    // one.
    RunRecord run(StudyId study, const std::string& name) const;
    // The candidates of the runs that stand, in order of first appearance.
    std::vector<std::string> candidates(StudyId study) const;
    // The run with this identity in a study of this name, if there is one.
    std::optional<RunRecord> find_run(const std::string& study, const RunIdentity& identity) const;
    std::vector<RecordedEpoch> epochs(RunId run, EpochRange range = {}) const;
    // The same without confusion matrices, which take most of the time and space.
    std::vector<EpochRecord> curve(RunId run) const;
    // How the layers fared in an epoch, in order; empty when nothing is recorded.
    std::vector<LayerSummary> layers(RunId run, std::int64_t epoch) const;
    std::vector<WarningRecord> warnings(RunId run) const;
    // Of the best weights, ordered by item id; empty when that part was never scored.
    std::vector<PredictionRecord> predictions(RunId run, Part part) const;
    // The same without probabilities, ordered by the ledger's number of the item.
    std::vector<OutcomeRecord> outcomes(RunId run, Part part) const;
    // By epoch, the predicted class of each item of outcomes() of the validation part; empty when the run was
    // recorded by a version that kept none.
    std::vector<std::vector<std::size_t>> epoch_predictions(RunId run) const;
    bool has_epoch_predictions(RunId run) const;
    // The predicted class of each of these items at the epoch that the other half of the units chose, by this
    // metric (metrics/cross_fitting.hpp); empty when there are no predictions by epoch.
    std::vector<std::size_t> cross_fitted(RunId run, Metric metric) const;
    // By item id of a part as a run saw it: the number of its unit (OutcomeRecord::unit).
    std::map<std::string, std::int64_t> units(RunId run, Part part) const;
    std::string item_id(ItemNumber number) const;
    // How many items a split (RunRecord::split) puts into this part.
    std::int64_t count_items(SplitId split, Part part) const;
    // The settings JSON of a run.
    std::string settings(RunId run) const;
    // The content hash (base/hash.hpp) of a model file: of the best weights (epoch 0), or of an epoch that
    // was kept; nothing when it was written by a version that kept none.
    std::optional<std::string> model_hash(RunId run, std::int64_t epoch = 0) const;
    // What distinguishes this ledger from every other.
    std::string identity() const;
    // Whose state the checkpoint of a run is: of this run in this ledger (TrainingState::owner).
    std::string checkpoint_owner(RunId run) const;
    // Of the image set that a run saw.
    std::string image_fingerprint(RunId run) const;
    // A plan, TOML, that trains this run alone; and where it was trained, JSON. Empty before it began.
    std::string plan(RunId run) const;
    std::string environment(RunId run) const;
    // Whether a process is training it now.
    bool is_claimed(RunId run) const;
    // The items of a part as a run saw them, by id.
    std::vector<ItemRecord> items(RunId run, Part part) const;
    // All labelled items of the study's image set, by id.
    std::vector<ItemRecord> items(StudyId study) const;
    // The one called by its id, its path, or the end of its path ("tile-0006.png"); InputError names the
    // nearest one, or says how many are meant.
    ItemRecord item(StudyId study, const std::string& name) const;
    // The item of this id, as runs of the study saw it. InputError when there is none, or when it is in the
    // test part, which is sealed.
    ItemRecord unsealed_item(StudyId study, const std::string& id) const;
    // Ids of the items that one split of the study seals and another one does not: runs of the other saw
    // them.
    std::set<std::string> sealed_elsewhere(StudyId study) const;
    // What the finished runs of the study predicted for it with their best weights, by the run's name,
    // wherever it was a validation item.
    std::vector<std::pair<std::string, PredictionRecord>> predictions_of_item(StudyId study,
                                                                              const std::string& id) const;
    // What is marked among the study's images, by item; marks belong to the place where the images lie, so
    // they outlast changes of the set.
    std::vector<MarkRecord> marks(StudyId study) const;
    // Every look at images of the study's test part, in order, whichever study, split or ledger it was for.
    std::vector<TestLook> test_looks(StudyId study) const;
    // The images of all looks at a test part.
    std::vector<ContentHash> looked_at() const;
    // The images of the test part of every study and run.
    std::set<ContentHash> test_images() const;
    // Where splits of these settings (PartsSettings::key()) put their images.
    KnownPlaces known_places(const std::string& parts_settings) const;
    RunRecord run_by_id(RunId run) const;
    // What is known of a run that was trained elsewhere, JSON as it was stated; empty of any other.
    std::string external_statement(RunId run) const;
    // An epoch as a run from elsewhere stated it; none when it did not.
    std::optional<ExternalEpoch> external_epoch(RunId run, std::int64_t epoch) const;
    // The epochs that such a run stated, in order.
    std::vector<ExternalEpoch> external_epochs(RunId run) const;
    // All items of a split and the others of its image set, in the order of the set.
    std::vector<PlacedItem> placed_items(SplitId split) const;
    std::string split_hash(SplitId split) const;
    std::string image_set_fingerprint(SplitId split) const;
    // The study's split, or the one whose validation part is this fold. InputError when it has no such fold.
    SplitId split_with_fold(StudyId study, std::int64_t fold) const;
    // The split of this hash; none when this ledger has none.
    std::optional<SplitId> find_split(const std::string& hash) const;

  private:
    friend class LedgerWriter;
    explicit Ledger(std::shared_ptr<LedgerConnection> connection) : connection_(std::move(connection)) {}

    std::vector<RunRecord> select_runs(const std::string& condition, std::int64_t value,
                                       const std::string& name = "") const;
    std::vector<RunRecord> listed_runs(StudyId study, bool archived) const;
    // The text that a query finds for a number; what says of what, for messages.
    std::string select_text(const char* sql, std::int64_t number, const char* what) const;
    std::string study_root(StudyId study) const;
    std::vector<std::size_t> compute_cross_fitted(RunId run, Metric metric) const;

    std::shared_ptr<LedgerConnection> connection_;
};

}  // namespace jevrin::inline v1
