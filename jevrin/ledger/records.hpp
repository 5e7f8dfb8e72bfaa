// The records of a ledger, as plain values.
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/images/part.hpp"
#include "jevrin/ledger/ids.hpp"
#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/plan/regime.hpp"
#include "jevrin/plan/varied_setting.hpp"
#include "jevrin/training/prediction_cost.hpp"

#include <cstdint>
#include <limits>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// One finished epoch of a run, which is what lies between two validations, as curves show it. Of a run that
// was trained elsewhere, numbers that it did not state are NaN.
struct EpochRecord {
    std::int64_t epoch = 0;  // from 1
    std::int64_t step = 0;   // of the run, so many were done
    double training_loss =
        0.0;  // cross-entropy, running average during the epoch, as are the other training scores
    double objective = 0.0;  // what was minimised: weighted, smoothed, focal
    MetricScores training_scores;
    double validation_loss = 0.0;
    double learning_rate = 0.0;  // of the last step
    double seconds = 0.0;        // of the whole epoch,
    double data_seconds = 0.0;   // waiting for images and features,
    double compute_seconds = 0.0;
    double validation_seconds = 0.0;
    std::int64_t memory_bytes = 0;  // resident at its end
    MetricScores validation_scores;
};

// The same with all that is recorded of it. What LedgerWriter::record_epoch() writes as scores is computed
// from the matrix.
struct RecordedEpoch : EpochRecord {
    ConfusionMatrix validation;  // of the whole validation part
};
// With the scores of the matrix.
RecordedEpoch recorded_epoch(EpochRecord epoch, ConfusionMatrix validation);

// From the first to the last of them; otherwise all.
struct EpochRange {
    std::int64_t first = 1;
    std::int64_t last = std::numeric_limits<std::int64_t>::max();
};

// The metric on validation, as recorded.
double validation_score(const EpochRecord& epoch, Metric metric);
// The metric on the training part, running average during the epoch. Ledgers before version 4 kept only
// accuracy: then it is that.
double training_score(const EpochRecord& epoch, Metric metric);

// A warning, recorded when it arose.
struct WarningRecord {
    std::int64_t epoch = 0;
    std::string message;
};

// unverified: trained elsewhere and finished, without predictions; its scores are what it claims.
enum class RunState { waiting, training, finished, failed, unverified };
const EnumNames<RunState>& names_of(RunState);

// Of a run that was trained elsewhere: by what, and on what. Either may be empty.
struct ExternalOrigin {
    std::string program;
    std::string hardware;
};

// An epoch as a run from elsewhere stated it.
struct ExternalEpoch {
    std::int64_t epoch = 0;
    std::string content;  // the hash of what was stated
    std::string waiting;  // what was stated, JSON, while an epoch before it is missing; otherwise empty
    std::string numbers;  // what was stated beside the columns of an epoch, JSON: numbers by name
};

// One candidate trained with one seed.
struct RunRecord {
    RunId id;
    std::string study;
    std::string candidate;
    std::string origin;                 // the candidate of the plan that this one is a variant of, or itself
    std::vector<VariedSetting> varied;  // what makes it a variant
    Regime regime = Regime::scratch;
    std::int64_t seed = 0;
    std::int64_t fold = 0;  // that was validation; 0 without folds
    RunState state = RunState::waiting;
    bool claimed = false;     // a process is training it now
    std::string reason;       // why it failed
    std::int64_t epochs = 0;  // finished
    std::int64_t planned_epochs = 0;
    std::int64_t batch = 0;          // items of one step; 0: not recorded
    double training_fraction = 1.0;  // of the training part
    std::int64_t parameters = 0;
    std::int64_t trainable_parameters = 0;
    std::int64_t multiplications = 0;  // forward, for one image; 0: not recorded
    std::optional<PredictionCost> prediction_cost =
        {};                                       // with its model, where it was trained; none: not measured
    SplitId split;                                // how its images were parted
    ImageSetId image_set;                         // what it saw,
    std::int64_t image_set_version = 1;           // and by version: those of one root are counted from 1
    double seconds = 0.0;                         // of all its epochs; NaN: one of them does not state it
    std::optional<RecordedEpoch> best;            // the epoch whose weights are kept
    std::optional<ExternalOrigin> external = {};  // none: trained by this library
    bool archived = false;                        // no command but 'runs --archived' shows it
    std::string note;
    std::vector<std::string> tags;  // in order of their letters

    // "candidate/seed", with folds "candidate/seed/fold".
    std::string name() const;
    // Finished, failed or unverified.
    bool is_over() const;
};

// How far a run is.
struct RunStamp {
    RunId id;
    RunState state = RunState::waiting;
    bool claimed = false;     // a process is training it now
    std::int64_t epochs = 0;  // finished

    friend bool operator==(const RunStamp&, const RunStamp&) = default;
};

// InputError when the run is not finished.
void require_finished(const RunRecord& run);

// One item as a run predicted it with its best weights.
struct PredictionRecord {
    std::string item;  // id
    std::size_t label = 0;
    std::size_t predicted = 0;
    std::vector<float> probabilities;  // by class
};

// The path below the image set in an item's id, PATH#HASH.
std::string path_of_item(const std::string& id);

// One item with its label, as a run saw it.
struct ItemRecord {
    std::string id;
    std::size_t label = 0;
};

// An item of an image set and where a split puts it.
struct PlacedItem {
    std::string id;
    std::size_t label = 0;
    ItemNumber number;
    ItemNumber unit;           // OutcomeRecord::unit
    std::optional<Part> part;  // none: in no part
    std::int64_t fold = 0;     // 0: no folds, or in the test part
};

// What an item was predicted as at an epoch.
struct ItemPrediction {
    std::string item;  // id
    std::size_t predicted = 0;
};

// The same without probabilities: what runs are compared by.
struct OutcomeRecord {
    ItemNumber item;  // Ledger::item_id()
    ItemNumber unit;  // the first of those that it stays together with (find_units()), or itself
    std::size_t label = 0;
    std::size_t predicted = 0;
};

// An item that somebody keeps for review, and what they propose.
struct MarkRecord {
    std::string item;       // id
    std::string label;      // the class that is proposed; empty: none
    bool excluded = false;  // proposed instead: to leave the item out
    std::string note;
    std::string marked;  // when, UTC; set by the ledger
};

// One time that images of the sealed test part were looked at.
struct TestLook {
    std::string run;              // that was scored; empty when it was looked at in another way
    std::string looked;           // UTC
    std::string what = "scores";  // or "features", "classify", "parts"
    std::string study = {};       // of the run, when it is another one
    std::int64_t items = 0;       // of the study's test part
};

// What Ledger::merge() did.
struct MergeSummary {
    std::int64_t studies = 0;    // that were new
    std::int64_t runs = 0;       // that were copied
    std::int64_t known = 0;      // that both have
    std::int64_t differing = 0;  // of them, finished in both with other scores
};

struct StudyRecord {
    StudyId id;
    std::string name;
    Metric metric = Metric::balanced_accuracy;
    std::string image_root;
    ImageSetId image_set;
    std::int64_t image_set_version = 1;
    std::string image_source;  // JSON: empty object, or array, shape and transposed
    std::vector<std::string> classes;
    std::int64_t test_looks = 0;  // how often its test part has been scored
    double margin = 0.01;         // the smallest difference of scores that matters
    std::int64_t most_seeds = 0;  // up to which seeds are added until a difference is clear; 0: not stated
    std::vector<std::int64_t> seed_looks = {};  // how many seeds there were when it was chosen, ascending
};

// What identifies a run: the same identity is never trained twice.
struct RunIdentity {
    std::string candidate;
    std::string origin = {};                 // empty: the candidate itself
    std::vector<VariedSetting> varied = {};  // what makes it a variant
    Regime regime = Regime::scratch;
    std::int64_t seed = 0;
    std::int64_t fold = 0;
    SplitId split = {};                    // LedgerWriter::put_split(); none: that of the study
    std::string settings;                  // JSON: everything its results depend on, defaults included
    std::string identity = {};             // what of it distinguishes runs: identity_of(); empty: settings
    std::vector<std::string> former = {};  // identities that earlier versions gave it
    std::int64_t planned_epochs = 0;
    std::int64_t batch = 0;          // items of one step; 0: not recorded
    double training_fraction = 1.0;  // of the training part
    std::int64_t parameters = 0;
    std::int64_t trainable_parameters = 0;
    std::int64_t multiplications = 0;  // forward, for one image; 0: not recorded

    const std::string& key() const { return identity.empty() ? settings : identity; }
};

}  // namespace jevrin::inline v1
