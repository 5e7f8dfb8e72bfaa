// One training step through a network: forward with the statistics of the batch, then the gradients of all
// parameters.
//
//     TrainingPass pass(network, /*capacity=*/32);
//     std::span<const float> logits = pass.forward(batch, images, draw);
//     pass.backward(batch, logits_gradient);
//     for (TrainedParameter& p : pass.parameters()) ...  // p.value -= rate * p.gradient
#pragma once

#include "jevrin/execution/pass.hpp"
#include "jevrin/graph/graph.hpp"

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class CompiledNetwork;
struct BackwardArguments;

// A parameter that training changes, with its gradient after backward(); views into the network and the pass.
struct TrainedParameter {
    std::span<float> value;
    std::span<const float> gradient;
    ParameterKind kind = ParameterKind::weight;
    float rate_factor = 1.0F;  // of the learning rate
    bool repeated = false;     // shared with one before, whose gradient and rate factor this has
    std::size_t node = 0;      // of the network
};

// Sees what each step of a forward pass made: the node and its values [batch, output...], valid during the
// call.
using ValueObserver = std::function<void(std::size_t node, std::span<const float> values)>;

class TrainingPass {
  public:
    // Keeps a reference to the network, whose parameters and statistics change in place. Frozen nodes work as
    // in inference; where nothing before a cut trains, cut_network() first and keep what lies before it.
    // capacity is the largest batch. InputError when memory does not suffice. After the first step, steps
    // allocate nothing.
    TrainingPass(Network& network, std::int64_t capacity, KeptActivations kept = KeptActivations::float32);
    ~TrainingPass();
    TrainingPass(const TrainingPass&) = delete;
    TrainingPass& operator=(const TrainingPass&) = delete;

    // batch may be 0: an empty shard. input [batch, item...] must stay valid until backward(). Moves the
    // running statistics. The result [batch, output...] is valid until the next forward().
    std::span<const float> forward(std::int64_t batch, std::span<const float> input, const PassDraw& draw,
                                   const ValueObserver& observer = {});
    // output_gradient is that of the loss with respect to the output of forward(). What nodes share gets the
    // sum of its gradients. ready, unless empty, is called with a parameter when its gradient is there; the
    // order is that of ready_order().
    void backward(std::int64_t batch, std::span<const float> output_gradient,
                  const std::function<void(std::size_t parameter)>& ready = {});

    std::span<const std::size_t> ready_order() const { return ready_order_; }

    std::span<TrainedParameter> parameters() { return parameters_; }
    // The gradient of a parameter, to add those of other shards of the batch.
    std::span<float> gradient(std::size_t parameter) { return gradients_[parameter]; }

    // What the last forward() over a shard measured, node by node: what moves running statistics.
    void copy_statistics(std::vector<double>& statistics) const;
    void move_statistics(std::span<const double> statistics);
    const PassMemory& memory() const;

    // From here on, the seconds of each node of the network are added up, forwards and backwards; nodes that
    // are computed together count as the one with the parameters.
    void measure_nodes();
    std::span<const double> node_seconds() const { return node_seconds_; }

  private:
    template <typename Work>
    void measured(std::size_t node, const Work& work);
    bool is_shared(std::size_t parameter) const;
    const float* kept_value(std::size_t value, std::int64_t batch);
    void add_parameter(std::size_t node, std::size_t p, Tensor& gradient);

    Network& network_;
    std::unique_ptr<CompiledNetwork> compiled_;
    std::vector<std::vector<Tensor>> parameter_gradients_;  // of each instruction
    std::vector<TrainedParameter> parameters_;
    std::vector<std::span<float>> gradients_;  // of these
    std::vector<std::size_t> ready_order_;     // of these, backwards through the network
    std::vector<std::size_t> first_of_;        // of these, by instruction
    // What nodes share: the first of parameters_ that has it, and the gradients of all.
    struct Shared {
        std::size_t first = 0;
        std::vector<Tensor*> gradients;
    };
    std::map<std::string, Shared> shared_;  // by its name
    std::vector<bool> gradient_written_;    // of each value
    std::vector<bool> widened_;             // of each value, during backward
    std::vector<BackwardArguments> backward_;
    std::vector<const float*> inputs_;
    const float* input_ = nullptr;
    std::vector<double> node_seconds_;  // empty: not measured
};

}  // namespace jevrin::inline v1
