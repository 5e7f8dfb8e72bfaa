// Operations that take places together: pooling and reductions.
#include "jevrin/execution/operation.hpp"
#include "jevrin/graph/kernel_shapes.hpp"
#include "jevrin/tensor/pooling.hpp"
#include "jevrin/tensor/reduction.hpp"

namespace jevrin::inline v1 {

using namespace operators;

namespace {

class MaxPoolingOperation : public Operation {
  public:
    explicit MaxPoolingOperation(const PoolingShape& shape)
        : shape_(shape), size_(shape.out_height() * shape.out_width() * shape.channels) {}
    std::int64_t kept_bytes() const override {
        return size_ * static_cast<std::int64_t>(sizeof(std::int32_t));
    }
    void prepare(std::int64_t capacity) override {
        winners_.resize(static_cast<std::size_t>(capacity * size_));
    }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        max_pool(shape_, batch, inputs[0], output, nullptr);
    }
    void forward(std::int64_t batch, Node&, StepInputs inputs, const PassDraw&, float* output) override {
        max_pool(shape_, batch, inputs[0], output, winners_.data());
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            max_pool_backward(shape_, batch, a.output_gradient, winners_.data(), target.accumulate,
                              target.gradient);
    }

  private:
    PoolingShape shape_;
    std::int64_t size_;  // of the output of one item
    std::vector<std::int32_t> winners_;
};

class AveragePoolingOperation : public Operation {
  public:
    explicit AveragePoolingOperation(const PoolingShape& shape) : shape_(shape) {}
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        average_pool(shape_, batch, inputs[0], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            average_pool_backward(shape_, batch, a.output_gradient, target.accumulate, target.gradient);
    }

  private:
    PoolingShape shape_;
};

class GlobalAverageOperation : public Operation {
  public:
    GlobalAverageOperation(std::int64_t pixels, std::int64_t channels)
        : pixels_(pixels), channels_(channels) {}
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        global_average_pool(pixels_, channels_, batch, inputs[0], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            global_average_pool_backward(pixels_, channels_, batch, a.output_gradient, target.accumulate,
                                         target.gradient);
    }

  private:
    std::int64_t pixels_;
    std::int64_t channels_;
};

class ReductionOperation : public Operation {
  public:
    ReductionOperation(const Reduction& op, const Shape& input) : kernel_(op.kind, input, op.axes) {
        if (op.kind == ReductionKind::maximum) kept_ = kernel_.output_size();
    }
    std::int64_t kept_bytes() const override {
        return kept_ * static_cast<std::int64_t>(sizeof(std::int32_t));
    }
    void prepare(std::int64_t capacity) override {
        winners_.resize(static_cast<std::size_t>(capacity * kept_));
    }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        kernel_.forward(batch, inputs[0], output, nullptr);
    }
    void forward(std::int64_t batch, Node&, StepInputs inputs, const PassDraw&, float* output) override {
        kernel_.forward(batch, inputs[0], output, winners_.data());
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            kernel_.backward(batch, a.output_gradient, winners_.data(), target.accumulate, target.gradient);
    }

  private:
    ReductionKernel kernel_;
    std::int64_t kept_ = 0;  // winners of one item
    std::vector<std::int32_t> winners_;
};

}  // namespace

template <>
std::unique_ptr<Operation> operation_of(const MaxPooling& op, const Node&, const OperationShapes& shapes) {
    return std::make_unique<MaxPoolingOperation>(pooling_shape(op.window, shapes.inputs[0], false));
}
template <>
std::unique_ptr<Operation> operation_of(const AveragePooling& op, const Node&,
                                        const OperationShapes& shapes) {
    return std::make_unique<AveragePoolingOperation>(
        pooling_shape(op.window, shapes.inputs[0], op.count_padding));
}
template <>
std::unique_ptr<Operation> operation_of(const GlobalAveragePooling&, const Node&,
                                        const OperationShapes& shapes) {
    const Shape& in = shapes.inputs[0];
    return std::make_unique<GlobalAverageOperation>(in[0] * in[1], in[2]);
}
template <>
std::unique_ptr<Operation> operation_of(const Reduction& op, const Node&, const OperationShapes& shapes) {
    return std::make_unique<ReductionOperation>(op, shapes.inputs[0]);
}

void put_pooling_operations(OperationTable& table) {
    put_steps<MaxPooling, AveragePooling, GlobalAveragePooling, Reduction>(table);
}

}  // namespace jevrin::inline v1
