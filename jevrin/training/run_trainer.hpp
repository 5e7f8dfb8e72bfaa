// Training one run, epoch by epoch.
//
//     RunTrainer trainer(data, network, first_trained, scaling, settings, seed);
//     while (!trainer.finished()) {
//         EpochResult epoch = trainer.train_epoch();
//         ... score epoch.validation, trainer.keep_as_best() when it is the best so far ...
//         write_checkpoint(file, trainer.state());
//     }
//
// What lies before first_trained is fixed: it runs as inference, once per item when nothing random comes
// before it. An "epoch" ends with a validation: after one pass over the training part, or after
// settings.validate_every steps.
#pragma once

#include "jevrin/base/class_counts.hpp"
#include "jevrin/graph/graph.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/images/prepared_images.hpp"
#include "jevrin/training/layer_summary.hpp"
#include "jevrin/training/training_settings.hpp"

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// What every run of a study shares: equal terms begin here.
struct TrainingData {
    const PreparedImages* images = nullptr;
    std::vector<std::size_t> labels;   // of all items
    std::vector<double> weights = {};  // of the training loss, of all items; empty: 1 each
    std::size_t classes = 0;
    std::vector<std::string> class_names = {};  // needed for weights by name
    Parts parts;
};

// Probabilities [items, classes] for some items, and their mean loss.
struct Predictions {
    std::vector<std::size_t> items;
    std::vector<float> probabilities;
    double loss = 0.0;

    // The class with the largest probability of each item; ties go to the first.
    std::vector<std::size_t> classes() const;
};

struct EpochResult {
    std::int64_t epoch = 0;      // from 1
    std::int64_t step = 0;       // of the run, so many are done
    double training_loss = 0.0;  // cross-entropy, running average during the epoch
    double objective = 0.0;      // what was minimised, likewise: weighted, smoothed, focal
    ClassCounts training;        // predictions likewise
    double learning_rate = 0.0;  // of the last step
    Predictions validation;      // with the weights at the end of the epoch, or their average
    std::vector<LayerSummary> layers;
    double seconds = 0.0;             // of the whole epoch,
    double data_seconds = 0.0;        // waiting for images and features,
    double compute_seconds = 0.0;     // the steps themselves,
    double validation_seconds = 0.0;  // and the validation
};

// From an epoch on, the nodes from this one on train; what lies before it is frozen.
struct TrainingPhase {
    std::int64_t first_epoch = 1;
    std::size_t first_trained = 1;
};

// Called after each batch of an epoch; return false to stop: Interrupted is thrown, and the trainer stands
// behind that batch.
using BatchProgress = std::function<bool(std::int64_t batch, std::int64_t batches)>;

// What a checkpoint holds (training/training_state.hpp).
struct TrainingState;

// Boundary features of items, computed once and shared by runs with the same frozen part.
class FeaturePool;

// The ranks that train one run together (training/shard_link.hpp).
class ShardLink;

class RunTrainer {
  public:
    // data and pool must outlive the trainer. The network's output is one logit per class. phases begin with
    // epoch 1; each trains at least what the one before it does. pool may be shared by trainers of the same
    // backbone and scaling. With a link its ranks train the run together, each with the same arguments and
    // calls; settings.shards must be at least as many.
    RunTrainer(const TrainingData& data, Network network, std::vector<TrainingPhase> phases,
               const Scaling& scaling, const TrainingSettings& settings, std::uint64_t seed,
               FeaturePool* pool = nullptr, ShardLink* link = nullptr);
    // In one phase from a node on (1 when everything trains).
    RunTrainer(const TrainingData& data, Network network, std::size_t first_trained, const Scaling& scaling,
               const TrainingSettings& settings, std::uint64_t seed, FeaturePool* pool = nullptr);
    ~RunTrainer();
    RunTrainer(const RunTrainer&) = delete;
    RunTrainer& operator=(const RunTrainer&) = delete;

    const RunLength& length() const;
    std::int64_t epochs_done() const;
    bool finished() const;
    // Trains one more epoch, or the rest of one that was interrupted, and validates it. RunError when the
    // loss is no longer finite; the trainer then stands where the epoch began, or was resumed. Interrupted
    // when progress asks to stop.
    EpochResult train_epoch(const BatchProgress& progress = {});

    // Instead of epochs, for networks of which only a dense layer trains: solves it to convergence by
    // logistic regression and validates it, as one epoch.
    EpochResult solve_head(double l2_regularisation);

    // The weights as they are now become the ones that best_network() gives.
    void keep_as_best();
    Network best_network() const;
    // The whole network as it would be kept now.
    Network network() const;

    // Probabilities with the best weights; by the same arithmetic as classify().
    Predictions predict_with_best(const std::vector<std::size_t>& items) const;

    // The features before the head with the best weights, [items, width]; empty when the network has no place
    // where they are a vector (cut_at_head()).
    std::vector<float> features_with_best(const std::vector<std::size_t>& items) const;

    TrainingState state() const;
    // InputError when the state does not fit this network.
    void restore(const TrainingState& state);

  private:
    struct Work;
    std::unique_ptr<Work> work_;
};

}  // namespace jevrin::inline v1
