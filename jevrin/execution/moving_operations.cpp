// Operations that only move elements: slices, padding, transpositions, joining, new shapes.
#include "jevrin/execution/operation.hpp"
#include "jevrin/tensor/pointwise.hpp"
#include "jevrin/tensor/rearrangement.hpp"

#include <array>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

class RearrangementOperation : public Operation {
  public:
    explicit RearrangementOperation(Rearrangement rearrangement) : rearrangement_(std::move(rearrangement)) {}
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
class ReshapeOperation : public Operation {
  public:
    explicit ReshapeOperation(std::int64_t size) : size_(size) {}
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

class ConcatenateOperation : public Operation {
  public:
    ConcatenateOperation(std::int64_t axis, const std::vector<Shape>& inputs) {
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

std::unique_ptr<Operation> rearranged(Rearrangement rearrangement) {
    return std::make_unique<RearrangementOperation>(std::move(rearrangement));
}

}  // namespace

template <>
std::unique_ptr<Operation> operation_of(const Concatenate& op, const Node&, const OperationShapes& shapes) {
    return std::make_unique<ConcatenateOperation>(op.axis, shapes.inputs);
}
template <>
std::unique_ptr<Operation> operation_of(const Slice& op, const Node&, const OperationShapes& shapes) {
    return rearranged(Rearrangement::slice(shapes.inputs[0], op.stretches));
}
template <>
std::unique_ptr<Operation> operation_of(const Padding& op, const Node&, const OperationShapes& shapes) {
    return rearranged(Rearrangement::pad(shapes.inputs[0], op.before, op.after, op.kind, op.value));
}
template <>
std::unique_ptr<Operation> operation_of(const Transpose& op, const Node&, const OperationShapes& shapes) {
    return rearranged(Rearrangement::transpose(shapes.inputs[0], op.permutation));
}
template <>
std::unique_ptr<Operation> operation_of(const Reshape&, const Node&, const OperationShapes& shapes) {
    return std::make_unique<ReshapeOperation>(element_count(shapes.output));
}
template <>
std::unique_ptr<Operation> operation_of(const Flatten&, const Node&, const OperationShapes& shapes) {
    const Shape& in = shapes.inputs[0];
    // Channels come first in a flattened image; one pixel or one channel is in that order already.
    const bool image = in.size() == 3 && in[0] * in[1] > 1 && in[2] > 1;
    if (image) return rearranged(Rearrangement::transpose(in, std::array<std::int64_t, 3>{2, 0, 1}));
    return std::make_unique<ReshapeOperation>(element_count(shapes.output));
}
template <>
std::unique_ptr<Operation> operation_of(const Gather& op, const Node&, const OperationShapes& shapes) {
    return rearranged(Rearrangement::gather(shapes.inputs[0], op.axis, op.places));
}

void put_moving_operations(OperationTable& table) {
    put_steps<Concatenate, Slice, Padding, Transpose, Reshape, Flatten, Gather>(table);
}

}  // namespace jevrin::inline v1
