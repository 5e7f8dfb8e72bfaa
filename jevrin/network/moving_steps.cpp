// Steps that only move elements: slices, padding, transpositions, joining, new shapes.
#include "jevrin/network/steps.hpp"
#include "jevrin/tensor/pointwise.hpp"
#include "jevrin/tensor/rearrangement.hpp"

#include <array>

namespace jevrin {
namespace {

class RearrangementStep : public Step {
  public:
    explicit RearrangementStep(Rearrangement rearrangement) : rearrangement_(std::move(rearrangement)) {}
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        rearrangement_.forward(batch, inputs[0], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            rearrangement_.backward(batch, a.output_gradient, target.accumulate, target.gradient);
    }

  private:
    Rearrangement rearrangement_;
};

// The same numbers under another shape.
class ReshapeStep : public Step {
  public:
    explicit ReshapeStep(std::int64_t size) : size_(size) {}
    Traits traits() const override { return {.in_place = true, .gradient_in_place = true}; }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        if (output != inputs[0]) pass_values(batch * size_, inputs[0], false, output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr && target.gradient != a.output_gradient)
            pass_values(batch * size_, a.output_gradient, target.accumulate, target.gradient);
    }

  private:
    std::int64_t size_;
};

class ConcatenateStep : public Step {
  public:
    ConcatenateStep(std::int64_t axis, const std::vector<Shape>& inputs) {
        for (std::size_t d = 0; d < static_cast<std::size_t>(axis); ++d) outer_ *= inputs[0][d];
        for (const Shape& input : inputs) sizes_.push_back(element_count(input) / outer_);
    }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        concatenate(batch * outer_, sizes_, inputs, output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        for (std::size_t k = sizes_.size(); k-- > 0;) {
            const auto& target = a.input_gradients[k];
            if (target.gradient != nullptr)
                concatenate_backward(batch * outer_, sizes_, k, a.output_gradient, target.accumulate,
                                     target.gradient);
        }
    }

  private:
    std::int64_t outer_ = 1;
    std::vector<std::int64_t> sizes_;
};

}  // namespace

std::unique_ptr<Step> make_moving_step(const Node& node, const StepShapes& shapes) {
    const Shape& in = shapes.inputs[0];
    const auto rearranged = [](Rearrangement rearrangement) {
        return std::make_unique<RearrangementStep>(std::move(rearrangement));
    };
    if (const auto* op = std::get_if<Concatenate>(&node.op))
        return std::make_unique<ConcatenateStep>(op->axis, shapes.inputs);
    if (const auto* op = std::get_if<Slice>(&node.op))
        return rearranged(Rearrangement::slice(in, op->stretches));
    if (const auto* op = std::get_if<Padding>(&node.op))
        return rearranged(Rearrangement::pad(in, op->before, op->after, op->kind, op->value));
    if (const auto* op = std::get_if<Transpose>(&node.op))
        return rearranged(Rearrangement::transpose(in, op->permutation));
    if (const auto* op = std::get_if<Gather>(&node.op))
        return rearranged(Rearrangement::gather(in, op->axis, op->places));
    // Channels come first in a flattened image; one pixel or one channel is in that order already.
    const bool image = in.size() == 3 && in[0] * in[1] > 1 && in[2] > 1;
    if (std::holds_alternative<Flatten>(node.op) && image)
        return rearranged(Rearrangement::transpose(in, std::array<std::int64_t, 3>{2, 0, 1}));
    return std::make_unique<ReshapeStep>(element_count(shapes.output));
}

}  // namespace jevrin
