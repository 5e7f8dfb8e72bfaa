// What a ledger keeps, as plain values.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace jevrin {

// One finished epoch of a run.
struct EpochRecord {
    std::int64_t epoch = 0;  // from 1
    double training_loss = 0.0;
    double training_accuracy = 0.0;
    double validation_loss = 0.0;
    double learning_rate = 0.0;
    double seconds = 0.0;
    ConfusionMatrix validation;  // of the whole validation part
};

enum class RunState { waiting, training, finished, failed };
std::string state_name(RunState state);

// One candidate trained with one seed.
struct RunRecord {
    std::int64_t id = 0;
    std::string study;
    std::string candidate;
    std::string regime;
    std::int64_t seed = 0;
    RunState state = RunState::waiting;
    std::string reason;       // why it failed
    std::int64_t epochs = 0;  // finished
    std::int64_t planned_epochs = 0;
    std::int64_t parameters = 0;
    std::int64_t trainable_parameters = 0;
    std::int64_t multiplications = 0;    // forward, for one image; 0: not recorded
    std::int64_t image_set_version = 1;  // what it saw: the versions of one root are counted from 1
    double seconds = 0.0;                // of all its epochs
    std::optional<EpochRecord> best;     // the epoch whose weights are kept

    // "candidate/seed".
    std::string name() const;
};

// One item as a run predicted it with its best weights.
struct PredictionRecord {
    std::string item;  // id
    std::size_t label = 0;
    std::size_t predicted = 0;
    std::vector<float> probabilities;  // by class
};

// One item with its label, as a run saw it.
struct ItemRecord {
    std::string id;
    std::size_t label = 0;
};

struct StudyRecord {
    std::int64_t id = 0;
    std::string name;
    Metric metric = Metric::balanced_accuracy;
    std::string image_root;
    std::int64_t image_set_version = 1;
    std::string image_source;  // JSON: empty object, or array, shape and transposed
    std::vector<std::string> classes;
    std::int64_t test_looks = 0;  // how often its test part has been scored
};

// What identifies a run: the same identity is never trained twice.
struct RunIdentity {
    std::string candidate;
    std::string regime;
    std::int64_t seed = 0;
    std::string settings;  // JSON: everything its results depend on
    std::int64_t planned_epochs = 0;
    std::int64_t parameters = 0;
    std::int64_t trainable_parameters = 0;
    std::int64_t multiplications = 0;  // forward, for one image; 0: not recorded
};

}  // namespace jevrin
