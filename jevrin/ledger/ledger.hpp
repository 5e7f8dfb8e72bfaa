// The ledger: the directory that keeps all runs.
//
// DIR/ledger.db is an SQLite database (docs/formats.md documents its tables), DIR/models/ holds the finished
// models and DIR/checkpoints/ the state of runs in progress. Every change is one transaction: after a crash
// the ledger holds whole epochs and nothing else.
//
//     Ledger ledger = Ledger::open("ledger");
//     const StudyRecord study = ledger.study();              // the one trained last
//     for (const RunRecord& run : ledger.runs(study.id)) ... ledger.epochs(run.id) ...
#pragma once

#include "jevrin/base/files.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/ledger/records.hpp"
#include "jevrin/training/layer_monitor.hpp"

#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace SQLite {
class Database;
}

namespace jevrin {

class Ledger {
  public:
    // For reading. InputError when there is no ledger, it is damaged, or a newer version of Jevrin wrote it.
    static Ledger open(const std::filesystem::path& directory);
    // For writing; makes the directory and an empty ledger when there is none. WorkError when it cannot be
    // written.
    static Ledger open_or_create(const std::filesystem::path& directory);

    ~Ledger();
    Ledger(Ledger&&) noexcept;
    Ledger& operator=(Ledger&&) noexcept;

    const std::filesystem::path& directory() const { return directory_; }
    std::filesystem::path model_file(std::int64_t run) const;
    // Of one epoch, when it was kept.
    std::filesystem::path model_file(std::int64_t run, std::int64_t epoch) const;
    std::filesystem::path checkpoint_file(std::int64_t run) const;
    // What may be deleted at any time: pictures and what reading files found out.
    static std::filesystem::path stores(const std::filesystem::path& directory) {
        return directory / "stores";
    }

    // --- reading ---

    // The study of this name, or the one trained last when the name is empty. InputError when there is none.
    StudyRecord study(const std::string& name = "") const;
    std::vector<std::string> study_names() const;
    // Runs that stand (superseded and archived ones are left out), by candidate in order of first appearance,
    // then seed.
    std::vector<RunRecord> runs(std::int64_t study) const;
    std::vector<RunRecord> archived_runs(std::int64_t study) const;
    // The run called "candidate/seed" or "candidate/seed/fold", archived or not; InputError names the nearest
    // one.
    RunRecord run(std::int64_t study, const std::string& name) const;
    // The candidates of the runs that stand, in order of first appearance.
    std::vector<std::string> candidates(std::int64_t study) const;
    // The run with this identity in a study of this name, if there is one.
    std::optional<RunRecord> find_run(const std::string& study, const RunIdentity& identity) const;
    std::vector<EpochRecord> epochs(std::int64_t run) const;
    // The same without confusion matrices, which take most of the time and space.
    std::vector<EpochRecord> curve(std::int64_t run) const;
    // How the layers fared in an epoch, in order; empty when nothing is recorded.
    std::vector<LayerSummary> layers(std::int64_t run, std::int64_t epoch) const;
    std::vector<WarningRecord> warnings(std::int64_t run) const;
    // Of the best weights, ordered by item id; empty when that part was never scored.
    std::vector<PredictionRecord> predictions(std::int64_t run, Part part) const;
    // The same without probabilities, ordered by the ledger's number of the item.
    std::vector<OutcomeRecord> outcomes(std::int64_t run, Part part) const;
    std::string item_id(std::int64_t number) const;
    // How many items a division (RunRecord::division) puts into this part.
    std::int64_t count_items(std::int64_t division, Part part) const;
    // The settings JSON of a run.
    std::string settings(std::int64_t run) const;
    // A plan, TOML, that trains this run alone; and where it was trained, JSON. Empty before it began.
    std::string plan(std::int64_t run) const;
    std::string environment(std::int64_t run) const;
    // Whether a process is training it now.
    bool is_claimed(std::int64_t run) const;
    // The items of a part as a run saw them, by id.
    std::vector<ItemRecord> items(std::int64_t run, Part part) const;
    // All labelled items of the study's image set, by id.
    std::vector<ItemRecord> items(std::int64_t study) const;
    // The one called by its id, its path, or the end of its path ("tile-0006.png"); InputError names the
    // nearest one, or says how many are meant.
    ItemRecord item(std::int64_t study, const std::string& name) const;
    // What is marked among the study's images, by item; marks belong to the place where the images lie, so
    // they outlast changes of the set.
    std::vector<MarkRecord> marks(std::int64_t study) const;
    // Every look at the test part of the study, in order.
    std::vector<TestLook> test_looks(std::int64_t study) const;
    // Where divisions of these settings (PartsSettings::key()) put their pictures.
    KnownPlaces known_places(const std::string& parts_settings) const;

    // --- writing ---

    // Records the study, its image set and its division, replacing what an earlier plan of that name said;
    // the study becomes the one trained last.
    // parts_settings (PartsSettings::key()) finds the places again when images are added.
    std::int64_t put_study(const std::string& name, Metric metric, const ImageSet& set, const Parts& parts,
                           const std::string& parts_settings = "");
    // The same for another division of the study's images: a fold.
    std::int64_t put_division(std::int64_t study, const ImageSet& set, const Parts& parts,
                              const std::string& parts_settings);
    // The run with this identity, added when it is new. Runs of the same candidate, seed and fold with other
    // settings become superseded: they stay in the database and out of sight; superseded_count receives how
    // many.
    std::int64_t put_run(std::int64_t study, const RunIdentity& identity,
                         std::int64_t* superseded_count = nullptr);
    RunRecord run_by_id(std::int64_t run) const;
    // The run belongs to whoever holds this, until they let go or die; nothing when somebody else has it.
    std::optional<PlaceLock> claim(std::int64_t run);
    // One transaction: the run is being trained, by this plan and on this machine.
    void begin_run(std::int64_t run, const std::string& plan, const std::string& environment);
    // One transaction: the epoch with its scores and confusion matrix, the layers and what there is to warn
    // about; best marks it as the one whose weights are kept.
    void record_epoch(std::int64_t run, const EpochRecord& epoch, bool best,
                      const std::vector<LayerSummary>& layers = {},
                      const std::vector<std::string>& warnings = {});
    // Forgets all epochs of a run, to train it from its beginning.
    void restart_run(std::int64_t run);
    // One transaction: the state and the predictions of the best weights on the validation part.
    void finish_run(std::int64_t run, const std::vector<PredictionRecord>& validation);
    void fail_run(std::int64_t run, const std::string& reason);
    // One transaction: predictions of the best weights on the test part (empty: of others, which are not
    // kept), and that it was looked at.
    void record_test_look(std::int64_t run, const std::vector<PredictionRecord>& test);
    // Adds the mark, or replaces what was marked for that item.
    void put_mark(std::int64_t study, const MarkRecord& mark);
    // False when the item was not marked.
    bool remove_mark(std::int64_t study, const std::string& item);
    // False when the run had the tag already, or did not have it.
    bool add_tag(std::int64_t run, const std::string& tag);
    bool remove_tag(std::int64_t run, const std::string& tag);
    void put_note(std::int64_t run, const std::string& note);
    // Puts a run away, or brings it back.
    void put_archived(std::int64_t run, bool archived);
    // Forgets all that a run recorded and removes its model and checkpoint. What stays is that the test part
    // was looked at with it; when its plan asks for it, it is trained again. InputError while a process
    // trains it.
    void delete_run(std::int64_t run);
    // Copies studies, runs and models of another ledger that this one lacks. Of a run that both have, the
    // finished one is kept, or else ours. Tags and looks at the test part are joined.
    MergeSummary merge(const Ledger& other);

  private:
    std::filesystem::path claims_file() const;
    Ledger(std::filesystem::path directory, std::unique_ptr<SQLite::Database> database);

    // All epochs, or one of them.
    std::vector<EpochRecord> select_epochs(std::int64_t run, std::optional<std::int64_t> epoch) const;
    // Puts confusion matrices into epochs.
    void fill_matrices(std::int64_t run, std::vector<EpochRecord>& epochs) const;
    // The text that a query finds for an id.
    std::string select_text(const char* sql, std::int64_t id) const;
    std::string study_root(std::int64_t study) const;
    std::vector<RunRecord> select_runs(const std::string& condition, std::int64_t value,
                                       const std::string& name = "") const;
    void forget_records(std::int64_t run);
    // Of the best weights, and of epochs that were kept.
    std::vector<std::filesystem::path> model_files(std::int64_t run) const;
    // A run of another ledger, with our numbers of what it belongs to.
    struct ForeignRun {
        std::int64_t number = 0;
        std::int64_t study = 0;
        std::int64_t division = 0;
        bool superseded = false;
    };
    void merge_run(const Ledger& other, const ForeignRun& foreign, MergeSummary& summary);
    void put_predictions(std::int64_t run, Part part, const std::vector<PredictionRecord>& predictions);

    std::filesystem::path directory_;
    std::unique_ptr<SQLite::Database> database_;
};

}  // namespace jevrin
