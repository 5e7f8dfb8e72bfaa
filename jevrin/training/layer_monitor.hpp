// Monitors each layer during training: exploding and vanishing gradients, dead units.
#pragma once

#include "jevrin/execution/training_pass.hpp"
#include "jevrin/training/layer_summary.hpp"

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class LayerMonitor {
  public:
    // parameters are those of a pass over this network; both must outlive the monitor.
    LayerMonitor(const Network& network, std::span<const TrainedParameter> parameters);

    // Whether a step of an epoch of `steps` is looked at: four of them, the last among them.
    static bool looks_at(std::int64_t step, std::int64_t steps);

    // For TrainingPass::forward() of a step that is looked at.
    void see(std::size_t node, std::span<const float> values);
    // Around the change of the weights of a step that is looked at.
    void before_change();
    void after_change();

    void restart() { sums_ = empty(); }
    const LayerSums& sums() const { return sums_; }
    // Ignored when they are not of these layers.
    void restore(const LayerSums& sums);
    std::vector<LayerSummary> summaries(double learning_rate) const;

    // Where the gradients are largest against the weights, as they are now; a layer with one that is no
    // number before all others.
    LayerSummary steepest() const;

  private:
    struct Layer {
        std::string name;
        std::vector<std::size_t> parameters;  // of the pass
        std::int64_t relu_units = 0;          // 0: no relu
        double rate_factor = 1.0;
    };
    LayerSums empty() const;
    double weight_norm(const Layer& layer) const;
    double norm_of_gradients(const Layer& layer) const;

    std::span<const TrainedParameter> parameters_;
    std::vector<Layer> layers_;
    std::vector<std::size_t> layer_of_relu_;  // by node of the network
    std::vector<std::vector<float>> before_;
    LayerSums sums_;
};

}  // namespace jevrin::inline v1
