// Inference: the forward pass with fixed statistics.
//
//     Inference inference(network, /*capacity=*/64);
//     std::span<const float> outputs = inference.run(batch, images);
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

class CompiledNetwork;

class Inference {
  public:
    // Copies and folds the network (RewritingStage::before_inference); capacity is the largest batch.
    // InputError when memory does not suffice.
    Inference(const Network& network, std::int64_t capacity);
    ~Inference();
    Inference(Inference&&) noexcept;
    Inference& operator=(Inference&&) noexcept;

    // input is [batch, item...] with 1 <= batch <= capacity; the result [batch, output...] is valid until the
    // next run. The output of an item does not depend on the other items of its batch.
    std::span<const float> run(std::int64_t batch, std::span<const float> input);

    std::int64_t capacity() const { return capacity_; }
    std::int64_t input_size() const;
    // Of weights, and of buffers for one item.
    std::int64_t bytes() const;
    std::int64_t output_size() const;
    const Shape& output_shape() const { return output_shape_; }

  private:
    Network network_;
    std::int64_t capacity_;
    Shape output_shape_;
    std::unique_ptr<CompiledNetwork> compiled_;
    std::vector<const float*> inputs_;
};

// Softmax over rows of logits, [batch, classes], computed in double and rounded once.
void class_probabilities(std::int64_t batch, std::int64_t classes, std::span<const float> logits,
                         std::span<float> probabilities);

}  // namespace jevrin::inline v1
