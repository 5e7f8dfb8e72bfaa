// Operations that multiply by matrices: convolutions, dense layers, matrix products; and constants.
#include "jevrin/execution/operation.hpp"
#include "jevrin/graph/kernel_shapes.hpp"
#include "jevrin/tensor/attention.hpp"
#include "jevrin/tensor/convolution.hpp"
#include "jevrin/tensor/dense.hpp"
#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/matrix_product.hpp"
#include "jevrin/tensor/reduction.hpp"
#include "jevrin/tensor/separable.hpp"

#include <algorithm>
#include <cassert>
#include <stdexcept>
#include <utility>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

const float* bias_of(const Node& node) {
    return node.parameters.size() > 1 ? node.parameters[1].data() : nullptr;
}

void add_bias_gradient(const BackwardArguments& a, std::int64_t rows, std::int64_t columns) {
    if (a.parameter_gradients->size() > 1)
        sum_rows(rows, columns, a.output_gradient, (*a.parameter_gradients)[1].data());
}

// Replaces the weight of a node by the form that its kernel reads.
template <typename Kernel>
WeightForm laid_out(const Kernel& kernel, Node& node) {
    if (kernel.laid_out_size() == 0) return WeightForm::plain;
    Tensor weight({kernel.laid_out_size()});
    kernel.lay_out(node.parameters[0].data(), weight.data());
    node.parameters[0] = std::move(weight);
    return WeightForm::laid_out;
}

class ConvolutionOperation : public Operation {
  public:
    ConvolutionOperation(const ConvolutionShape& shape, const Convolution& op)
        : kernel_(shape, ProductForm::fastest, op.winograd), activation_(op.activation) {}
    Traits traits() const override { return {.kept_inputs = 1}; }
    std::int64_t scratch_size() const override { return kernel_.scratch_size(); }
    void infer(std::int64_t batch, const Node& node, StepInputs inputs, float* output) override {
        kernel_.forward(batch, inputs[0], node.parameters[0].data(), bias_of(node), activation_, output,
                        form_, measures_ ? &measured_ : nullptr);
    }
    const BatchStatistics* measure_output() override {
        measures_ = true;
        return &measured_;
    }
    void lay_out_weights(Node& node) override {
        // Transformed weights that are too large to keep would be made anew for every image: then the direct
        // sum is faster.
        if (kernel_.uses_winograd() && kernel_.laid_out_size() == 0)
            kernel_ = ConvolutionKernel(kernel_.shape(), ProductForm::fastest, false);
        form_ = laid_out(kernel_, node);
    }
    void backward(std::int64_t batch, const Node& node, const BackwardArguments& a) override {
        const ConvolutionShape& s = kernel_.shape();
        kernel_.weight_gradient(batch, a.inputs[0], a.output_gradient, (*a.parameter_gradients)[0].data());
        add_bias_gradient(a, batch * s.out_height() * s.out_width(), s.out_channels);
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            kernel_.data_gradient(batch, a.output_gradient, node.parameters[0].data(), target.accumulate,
                                  target.gradient);
    }

  private:
    ConvolutionKernel kernel_;
    Function activation_;
    WeightForm form_ = WeightForm::plain;
    bool measures_ = false;
    BatchStatistics measured_;  // of the newest output
};

// For inference alone.
class SeparableConvolutionOperation : public Operation {
  public:
    SeparableConvolutionOperation(const SeparableShape& shape, const SeparableConvolution& op)
        : kernel_(shape), op_(op) {}
    std::int64_t scratch_size() const override { return kernel_.scratch_size(); }
    void lay_out_weights(Node& node) override {
        const auto replace = [](Tensor& weight, auto pack) {
            Tensor packed(weight.shape());
            if (pack(weight.data(), packed.data()) == packed.data()) weight = std::move(packed);
        };
        if (op_.expands)
            replace(node.parameters[0], [&](const float* weight, float* packed) {
                return kernel_.pack_expansion(weight, packed);
            });
        if (op_.projects)
            replace(node.parameters[op_.expands ? 4 : 2], [&](const float* weight, float* packed) {
                return kernel_.pack_projection(weight, packed);
            });
        laid_out_ = true;
    }
    void infer(std::int64_t batch, const Node& node, StepInputs inputs, float* output) override {
        assert(laid_out_);
        SeparableTerm terms[3];
        std::size_t next = 0;
        for (std::size_t t = 0; t < 3; ++t) {
            if ((t == 0 && !op_.expands) || (t == 2 && !op_.projects)) continue;
            terms[t] = {node.parameters[next].data(), node.parameters[next + 1].data(), op_.activations[t]};
            next += 2;
        }
        kernel_.forward(batch, inputs[0], terms[0], terms[1], terms[2],
                        inputs.size() > 1 ? inputs[1] : nullptr, output);
    }
    void backward(std::int64_t, const Node&, const BackwardArguments&) override {
        throw std::logic_error("separable convolutions are joined for inference alone");
    }

  private:
    SeparableKernel kernel_;
    SeparableConvolution op_;
    bool laid_out_ = false;
};

class DenseOperation : public Operation {
  public:
    DenseOperation(const Dense& op, std::int64_t rows, std::int64_t in, std::int64_t out)
        : kernel_(in, out), activation_(op.activation), rows_(rows), out_(out) {}
    Traits traits() const override { return {.kept_inputs = 1}; }
    std::int64_t scratch_size() const override { return kernel_.scratch_size(); }
    void infer(std::int64_t batch, const Node& node, StepInputs inputs, float* output) override {
        kernel_.forward(batch * rows_, inputs[0], node.parameters[0].data(), bias_of(node), activation_,
                        output, form_);
    }
    void lay_out_weights(Node& node) override { form_ = laid_out(kernel_, node); }
    void backward(std::int64_t batch, const Node& node, const BackwardArguments& a) override {
        kernel_.weight_gradient(batch * rows_, a.inputs[0], a.output_gradient,
                                (*a.parameter_gradients)[0].data());
        add_bias_gradient(a, batch * rows_, out_);
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            kernel_.data_gradient(batch * rows_, a.output_gradient, node.parameters[0].data(),
                                  target.accumulate, target.gradient);
    }

  private:
    DenseKernel kernel_;
    Function activation_;
    std::int64_t rows_;  // of one item
    std::int64_t out_;
    WeightForm form_ = WeightForm::plain;
};

class MatrixProductOperation : public Operation {
  public:
    MatrixProductOperation(const Shape& a, const Shape& b)
        : kernel_(a[a.size() - 2], a.back(), b.back()),
          count_(element_count(a) / (a[a.size() - 2] * a.back())) {}
    Traits traits() const override { return {.kept_inputs = 2}; }
    std::int64_t scratch_size() const override { return kernel_.scratch_size(); }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        kernel_.forward(batch * count_, inputs[0], inputs[1], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& left = a.input_gradients[0];
        const auto& right = a.input_gradients[1];
        if (right.gradient != nullptr)
            kernel_.right_gradient(batch * count_, a.inputs[0], a.output_gradient, right.accumulate,
                                   right.gradient);
        if (left.gradient != nullptr)
            kernel_.left_gradient(batch * count_, a.inputs[1], a.output_gradient, left.accumulate,
                                  left.gradient);
    }

  private:
    MatrixProductKernel kernel_;
    std::int64_t count_;  // of matrices in one item
};

class AttentionOperation : public Operation {
  public:
    explicit AttentionOperation(const AttentionPlace& place)
        : kernel_(place.shape),
          query_(place.query),
          key_(place.key),
          value_(place.value),
          covers_(place.covers) {
        source_sizes_.resize(covers_.size());
        targets_.reserve(covers_.size());
        source_sizes_[query_] = place.shape.query.item_size;
        source_sizes_[key_] = place.shape.key.item_size;
        source_sizes_[value_] = place.shape.value.item_size;
    }
    Traits traits() const override { return {.kept_inputs = covers_.size()}; }
    std::int64_t kept_bytes() const override {
        return kernel_.kept_size() * static_cast<std::int64_t>(sizeof(float));
    }
    std::int64_t scratch_size() const override { return kernel_.scratch_size(); }
    void prepare(std::int64_t capacity) override { kept_ = Tensor({capacity, kernel_.kept_size()}); }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        kernel_.forward(batch, inputs[query_], inputs[key_], inputs[value_], output, kept_.data());
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        targets_ = a.input_gradients;
        // What no operand reads has no gradient from here.
        for (std::size_t i = 0; i < targets_.size(); ++i) {
            if (targets_[i].gradient == nullptr || targets_[i].accumulate || covers_[i]) continue;
            for_rows(batch, source_sizes_[i], [&](std::int64_t n) {
                std::fill_n(targets_[i].gradient + n * source_sizes_[i], source_sizes_[i], 0.0F);
            });
            targets_[i].accumulate = true;
        }
        const auto target = [&](std::size_t i) {
            return AttentionKernel::Target{targets_[i].gradient, targets_[i].accumulate};
        };
        kernel_.backward(batch, a.inputs[query_], a.inputs[key_], a.inputs[value_], kept_.data(),
                         a.output_gradient, {target(query_), target(key_), target(value_)});
    }

  private:
    AttentionKernel kernel_;
    // Of the operands: which input.
    std::size_t query_;
    std::size_t key_;
    std::size_t value_;
    std::vector<bool> covers_;  // of each input: whether all of it is read
    std::vector<std::int64_t> source_sizes_;
    std::vector<BackwardArguments::Target> targets_;  // of the last backward()
    Tensor kept_;
};

class ConstantOperation : public Operation {
  public:
    explicit ConstantOperation(std::int64_t size) : size_(size) {}
    void infer(std::int64_t batch, const Node& node, StepInputs, float* output) override {
        for_rows(batch, size_,
                 [&](std::int64_t n) { std::copy_n(node.parameters[0].data(), size_, output + n * size_); });
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        if (!a.parameter_gradients->empty())
            sum_rows(batch, size_, a.output_gradient, (*a.parameter_gradients)[0].data());
    }

  private:
    std::int64_t size_;
};

}  // namespace

std::unique_ptr<Operation> make_attention(const AttentionPlace& place) {
    return std::make_unique<AttentionOperation>(place);
}

template <>
std::unique_ptr<Operation> operation_of(const Constant&, const Node&, const OperationShapes& shapes) {
    return std::make_unique<ConstantOperation>(element_count(shapes.output));
}
template <>
std::unique_ptr<Operation> operation_of(const Convolution& op, const Node& node,
                                        const OperationShapes& shapes) {
    return std::make_unique<ConvolutionOperation>(convolution_shape(node, shapes.inputs[0]), op);
}
template <>
std::unique_ptr<Operation> operation_of(const SeparableConvolution& op, const Node& node,
                                        const OperationShapes& shapes) {
    return std::make_unique<SeparableConvolutionOperation>(separable_shape(node, shapes.inputs[0]), op);
}
template <>
std::unique_ptr<Operation> operation_of(const MatrixProduct&, const Node&, const OperationShapes& shapes) {
    return std::make_unique<MatrixProductOperation>(shapes.inputs[0], shapes.inputs[1]);
}
template <>
std::unique_ptr<Operation> operation_of(const Dense& op, const Node&, const OperationShapes& shapes) {
    const std::int64_t in = shapes.inputs[0].back();
    return std::make_unique<DenseOperation>(op, element_count(shapes.inputs[0]) / in, in,
                                            shapes.output.back());
}

void put_weighted_operations(OperationTable& table) {
    put_steps<Constant, Convolution, SeparableConvolution, MatrixProduct, Dense>(table);
}

}  // namespace jevrin::inline v1
