// Training one run, epoch by epoch.
//
//     RunTrainer trainer(data, network, first_trained, settings, seed);
//     while (trainer.epochs_done() < settings.epochs) {
//         EpochResult epoch = trainer.train_epoch();
//         ... score epoch.validation, trainer.keep_as_best() when it is the best so far ...
//         write_checkpoint(file, trainer.state());
//     }
//
// What lies before first_trained is fixed: it runs as inference, once per item when nothing random comes
// before it.
#pragma once

#include "jevrin/images/batches.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/network/compiled_network.hpp"
#include "jevrin/network/graph.hpp"
#include "jevrin/training/optimiser.hpp"

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

namespace jevrin {

// What every run of a study shares: equal terms begin here.
struct TrainingData {
    const PreparedImages* images = nullptr;
    std::vector<std::size_t> labels;   // of all items
    std::vector<double> weights = {};  // of the training loss, of all items; empty: 1 each
    std::size_t classes = 0;
    Parts parts;
};

struct TrainingSettings {
    std::int64_t epochs = 15;
    std::int64_t batch = 32;
    OptimiserSettings optimiser;
    Augmentation augmentation;
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
    double training_loss = 0.0;  // mean over the epoch, as the weights moved
    double training_accuracy = 0.0;
    double learning_rate = 0.0;
    Predictions validation;  // with the weights at the end of the epoch
    double seconds = 0.0;
};

// From an epoch on, the nodes from this one on train; what lies before it is frozen.
struct TrainingPhase {
    std::int64_t first_epoch = 1;
    std::size_t first_trained = 1;
};

// Everything that must survive for a run to go on as if never interrupted.
struct TrainingState {
    std::int64_t epochs_done = 0;
    std::vector<Tensor> parameters;              // of all nodes that ever train, in order
    std::vector<std::vector<float>> velocities;  // of the same; empty where nothing has moved yet
    std::int64_t best_epoch = 0;                 // 0: none kept yet
    std::vector<Tensor> best_parameters;
    std::string note;  // whatever the caller wants to find again
};

// The memory of a run beside its images and features while it trains from this node on: steps, evaluations,
// weights, momentum, the best weights.
PassMemory run_memory(const Network& network, std::size_t first_trained);

// Called after each batch; return false to stop (Interrupted is thrown, the finished epochs stand).
using BatchProgress = std::function<bool(std::int64_t batch, std::int64_t batches)>;

// Boundary features of items, computed once and shared by runs with the same frozen part.
class FeaturePool;

class RunTrainer {
  public:
    // data and pool must outlive the trainer. The network's output is one logit per class. phases begin with
    // epoch 1; each trains at least what the one before it does. pool may be shared by trainers of the same
    // backbone and scaling.
    RunTrainer(const TrainingData& data, Network network, std::vector<TrainingPhase> phases,
               const Scaling& scaling, const TrainingSettings& settings, std::uint64_t seed,
               FeaturePool* pool = nullptr);
    // In one phase from a node on (1 when everything trains).
    RunTrainer(const TrainingData& data, Network network, std::size_t first_trained, const Scaling& scaling,
               const TrainingSettings& settings, std::uint64_t seed, FeaturePool* pool = nullptr);
    ~RunTrainer();
    RunTrainer(const RunTrainer&) = delete;
    RunTrainer& operator=(const RunTrainer&) = delete;

    std::int64_t epochs_done() const;
    // Trains one more epoch and validates it. RunError when the loss is no longer finite, Interrupted when
    // progress asks to stop; after either the trainer stands where the epoch before left it.
    EpochResult train_epoch(const BatchProgress& progress = {});

    // Instead of epochs, for networks of which only a dense layer trains: solves it to convergence by
    // logistic regression and validates it, as one epoch.
    EpochResult solve_head(double penalty);

    // The weights as they are now become the ones that best_network() gives.
    void keep_as_best();
    Network best_network() const;

    // Probabilities with the best weights, kept ones; by the same arithmetic as classify().
    Predictions predict_with_best(const std::vector<std::size_t>& items) const;

    TrainingState state() const;
    // InputError when the state does not fit this network.
    void restore(const TrainingState& state);

  private:
    struct Work;
    std::unique_ptr<Work> work_;
};

}  // namespace jevrin
