// One training step through a network: forward with the statistics of the batch, then the gradients of all
// parameters.
//
//     TrainingPass pass(network, /*capacity=*/32);
//     std::span<const float> logits = pass.forward(batch, images, draw);
//     pass.backward(batch, logits_gradient);
//     for (TrainedParameter& p : pass.parameters()) ...  // p.value -= rate * p.gradient
#pragma once

#include "jevrin/network/graph.hpp"
#include "jevrin/network/steps.hpp"

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

namespace jevrin {

// A parameter that training changes, with its gradient after backward(); views into the network and the pass.
struct TrainedParameter {
    std::span<float> value;
    std::span<const float> gradient;
    ParameterKind kind = ParameterKind::weight;
};

class TrainingPass {
  public:
    // Keeps a reference to the network, whose parameters and statistics change in place. Every node of it
    // trains: cut frozen parts off with divide() first.
    TrainingPass(Network& network, std::int64_t capacity);
    ~TrainingPass();
    TrainingPass(const TrainingPass&) = delete;
    TrainingPass& operator=(const TrainingPass&) = delete;

    // input [batch, item...] must stay valid until backward(). Moves the running statistics.
    std::span<const float> forward(std::int64_t batch, std::span<const float> input, const PassDraw& draw);
    // output_gradient is that of the loss with respect to the output of forward().
    void backward(std::int64_t batch, std::span<const float> output_gradient);

    std::span<TrainedParameter> parameters() { return parameters_; }

  private:
    struct Value {
        Tensor output;
        Tensor gradient;  // empty when nothing before needs it
    };

    Network& network_;
    std::vector<Shape> shapes_;
    std::vector<std::unique_ptr<Step>> steps_;
    std::vector<Value> values_;
    std::vector<std::vector<Tensor>> parameter_gradients_;
    std::vector<TrainedParameter> parameters_;
    std::vector<bool> gradient_written_;
    std::vector<BackwardArguments> backward_;
    std::vector<const float*> inputs_;
    std::span<const float> input_;
};

}  // namespace jevrin
