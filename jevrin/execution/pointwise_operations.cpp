// Operations that treat every element by itself: activations, arithmetic, dropout.
#include "jevrin/execution/operation.hpp"
#include "jevrin/tensor/arithmetic.hpp"
#include "jevrin/tensor/dropout.hpp"
#include "jevrin/tensor/pointwise.hpp"

namespace jevrin::inline v1 {

using namespace operators;

namespace {

class ActivationOperation : public Operation {
  public:
    ActivationOperation(const Function& function, std::int64_t size) : function_(function), size_(size) {}
    Traits traits() const override {
        const bool by_input = slope_needs_input(function_);
        return {.kept_inputs = by_input ? 1U : 0U,
                .keeps_output = !by_input,
                .in_place = true,
                .gradient_in_place = true};
    }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        apply(function_, batch * size_, inputs[0], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            apply_backward(function_, batch * size_, slope_needs_input(function_) ? a.inputs[0] : a.output,
                           a.output_gradient, target.accumulate, target.gradient);
    }

  private:
    Function function_;
    std::int64_t size_;
};

class ParametricReluOperation : public Operation {
  public:
    ParametricReluOperation(std::int64_t size, std::int64_t period) : size_(size), period_(period) {}
    Traits traits() const override { return {.kept_inputs = 1, .gradient_in_place = true}; }
    void infer(std::int64_t batch, const Node& node, StepInputs inputs, float* output) override {
        parametric_relu(batch * size_, period_, inputs[0], node.parameters[0].data(), output);
    }
    void backward(std::int64_t batch, const Node& node, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        parametric_relu_backward(batch * size_, period_, a.inputs[0], node.parameters[0].data(),
                                 a.output_gradient, target.accumulate, target.gradient,
                                 (*a.parameter_gradients)[0].data());
    }

  private:
    std::int64_t size_;
    std::int64_t period_;
};

class ArithmeticOperation : public Operation {
  public:
    ArithmeticOperation(const Arithmetic& op, const Shape& a, const Shape& b, const Shape& output)
        : kernel_(op.kind, a, b),
          rectified_(op.rectified),
          linear_(op.kind == ArithmeticKind::add || op.kind == ArithmeticKind::subtract),
          whole_(element_count(a) == element_count(output)) {}
    Traits traits() const override {
        return {.kept_inputs = linear_ ? 0U : 2U, .in_place = whole_, .gradient_in_place = whole_};
    }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        if (rectified_)
            kernel_.rectified_forward(batch, inputs[0], inputs[1], output);
        else
            kernel_.forward(batch, inputs[0], inputs[1], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto target = [&](std::size_t k) {
            return ArithmeticKernel::Target{a.input_gradients[k].gradient, a.input_gradients[k].accumulate};
        };
        kernel_.backward(batch, a.inputs[0], a.inputs[1], a.output_gradient, target(0), target(1));
    }

  private:
    ArithmeticKernel kernel_;
    bool rectified_;
    bool linear_;
    bool whole_;
};

class DropoutOperation : public Operation {
  public:
    DropoutOperation(double rate, std::int64_t size, std::size_t layer)
        : rate_(rate), size_(size), layer_(static_cast<std::uint32_t>(layer)) {}
    Traits traits() const override { return {.in_place = true, .gradient_in_place = true}; }
    std::int64_t kept_bytes() const override { return size_; }
    void prepare(std::int64_t capacity) override { kept_.resize(static_cast<std::size_t>(capacity * size_)); }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        if (output != inputs[0]) pass_values(batch * size_, inputs[0], false, output);
    }
    void forward(std::int64_t batch, Node&, StepInputs inputs, const PassDraw& draw, float* output) override {
        dropout({rate_, draw.seed, draw.epoch, layer_, draw.items}, batch, size_, inputs[0], output,
                kept_.data());
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            dropout_backward(rate_, batch * size_, kept_.data(), a.output_gradient, target.accumulate,
                             target.gradient);
    }

  private:
    double rate_;
    std::int64_t size_;
    std::uint32_t layer_;
    std::vector<std::uint8_t> kept_;
};

}  // namespace

template <>
std::unique_ptr<Operation> operation_of(const Activation& op, const Node&, const OperationShapes& shapes) {
    return std::make_unique<ActivationOperation>(op.function, element_count(shapes.output));
}
template <>
std::unique_ptr<Operation> operation_of(const ParametricRelu&, const Node& node,
                                        const OperationShapes& shapes) {
    return std::make_unique<ParametricReluOperation>(element_count(shapes.output), node.parameters[0].size());
}
template <>
std::unique_ptr<Operation> operation_of(const Arithmetic& op, const Node&, const OperationShapes& shapes) {
    return std::make_unique<ArithmeticOperation>(op, shapes.inputs[0], shapes.inputs[1], shapes.output);
}
template <>
std::unique_ptr<Operation> operation_of(const Dropout& op, const Node&, const OperationShapes& shapes) {
    return std::make_unique<DropoutOperation>(op.rate, element_count(shapes.output), shapes.index);
}

void put_pointwise_operations(OperationTable& table) {
    put_steps<Activation, ParametricRelu, Arithmetic, Dropout>(table);
}

}  // namespace jevrin::inline v1
