// The arithmetic behind each node of a network: made once for given shapes, then run batch after batch.
#pragma once

#include "jevrin/network/graph.hpp"

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

namespace jevrin {

// What the random operators of a training pass are keyed by.
struct PassDraw {
    std::uint64_t seed = 0;
    std::uint32_t epoch = 0;
    const std::int64_t* items = nullptr;  // [batch], stable numbers of the items
};

// What one node reads and writes in a backward step. A null input gradient is not wanted.
struct BackwardArguments {
    std::vector<const float*> inputs;
    const float* output = nullptr;
    const float* output_gradient = nullptr;
    struct Target {
        float* gradient = nullptr;
        bool accumulate = false;  // another user of the value has already written there
    };
    std::vector<Target> input_gradients;
    std::vector<Tensor>* parameter_gradients = nullptr;  // one per parameter, replaced
};

class Step {
  public:
    virtual ~Step() = default;
    // Inference: fixed statistics, no dropout.
    virtual void infer(std::int64_t batch, const Node& node, std::span<const float* const> inputs,
                       float* output) = 0;
    // Training: statistics of the batch, which also move the running ones in the node; keeps what backward
    // needs.
    virtual void forward(std::int64_t batch, Node& node, std::span<const float* const> inputs,
                         const PassDraw& draw, float* output) {
        static_cast<void>(draw);
        infer(batch, node, inputs, output);
    }
    virtual void backward(std::int64_t batch, const Node& node, const BackwardArguments& arguments) = 0;
};

// inputs and output are the shapes of one item; capacity is the largest batch.
std::unique_ptr<Step> make_step(const Node& node, const std::vector<Shape>& inputs, const Shape& output,
                                std::int64_t capacity, std::size_t index);

}  // namespace jevrin
