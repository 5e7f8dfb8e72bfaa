// The weights of a run in progress, across the phases of gradual unfreezing.
#pragma once

#include "jevrin/execution/training_pass.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/training/batch_step.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/layer_monitor.hpp"
#include "jevrin/training/optimiser.hpp"
#include "jevrin/training/run_trainer.hpp"

#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

// A network cut for one phase, with what training it takes.
struct PhaseWork {
    std::size_t first_trained;
    NetworkHalves halves;
    std::shared_ptr<BoundaryFeatures> features;
    TrainingPass pass;
    BatchStep step;
    Optimiser optimiser;
    LayerMonitor monitor;

    PhaseWork(NetworkHalves cut, std::size_t first, std::shared_ptr<BoundaryFeatures> shared,
              std::int64_t batch, const TrainingSettings& settings, std::size_t classes, ShardLink* link);

    bool keeps_features() const { return halves.frozen.nodes.size() > 1; }
};

class RunWeights {
  public:
    // data, settings, pool and link must outlive this; batch is the largest.
    RunWeights(const TrainingData& data, Network network, std::vector<TrainingPhase> phases,
               const Scaling& scaling, const TrainingSettings& settings, std::int64_t batch,
               FeaturePool& pool, ShardLink* link);

    // Goes to the phase to which an epoch (from 1) belongs.
    void enter(std::int64_t epoch);
    PhaseWork& phase() const { return *phase_; }

    // The weights of all nodes that ever train, in order.
    std::vector<Tensor> parameters();
    // The same as they are kept and validated: their running average when there is one.
    std::vector<Tensor> kept_parameters();
    std::vector<Moments> moments();
    const std::vector<Tensor>& averages() const { return averages_; }
    // InputError when they are not of this network; nothing is changed then. Enters no phase.
    void restore(const TrainingState& state);

    // After each step, the `steps`-th of the run (from 1).
    void average(std::int64_t steps);

    // The network of the phase with other weights of all nodes that ever train.
    Network trained_with(const std::vector<Tensor>& parameters) const;
    // The whole network likewise.
    Network network_with(const std::vector<Tensor>& parameters) const;

  private:
    using Name = std::pair<std::string, std::size_t>;  // of a node, and which parameter

    void collect();
    void set_parameters(Network& target, const std::vector<Tensor>& parameters) const;

    const TrainingData& data_;
    Network network_;  // nodes that train now are up to date only after collect()
    std::vector<TrainingPhase> phases_;
    Scaling scaling_;
    const TrainingSettings& settings_;
    std::int64_t batch_;
    FeaturePool& pool_;
    ShardLink* link_;
    std::size_t first_ever_;                     // the first node that ever trains
    std::map<std::string, std::size_t> places_;  // of the nodes by name
    std::vector<std::size_t> first_parameter_;   // of each node, in the list of all that ever train
    std::map<Name, Moments> moments_;
    std::vector<Tensor> averages_;
    std::unique_ptr<PhaseWork> phase_;
};

}  // namespace jevrin::inline v1
