#include "jevrin/network/steps.hpp"

#include "jevrin/tensor/convolution.hpp"
#include "jevrin/tensor/dense.hpp"
#include "jevrin/tensor/elementwise.hpp"
#include "jevrin/tensor/normalisation.hpp"
#include "jevrin/tensor/pooling.hpp"
#include "jevrin/tensor/reduction.hpp"

#include <cassert>

namespace jevrin {
namespace {

using Inputs = std::span<const float* const>;

const float* bias_of(const Node& node) {
    return node.parameters.size() > 1 ? node.parameters[1].data() : nullptr;
}

float* bias_gradient_of(const BackwardArguments& a) {
    return a.parameter_gradients->size() > 1 ? (*a.parameter_gradients)[1].data() : nullptr;
}

class ConvolutionStep : public Step {
  public:
    explicit ConvolutionStep(const ConvolutionShape& shape)
        : kernel_(shape), pixels_(shape.out_height() * shape.out_width()), channels_(shape.out_channels) {}
    void infer(std::int64_t batch, const Node& node, Inputs inputs, float* output) override {
        const bool relu = std::get<Convolution>(node.op).relu;
        kernel_.forward(batch, inputs[0], node.parameters[0].data(), bias_of(node),
                        relu ? Activation::relu : Activation::none, output);
    }
    void backward(std::int64_t batch, const Node& node, const BackwardArguments& a) override {
        kernel_.weight_gradient(batch, a.inputs[0], a.output_gradient, (*a.parameter_gradients)[0].data());
        if (float* bias = bias_gradient_of(a)) sum_rows(batch * pixels_, channels_, a.output_gradient, bias);
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            kernel_.data_gradient(batch, a.output_gradient, node.parameters[0].data(), target.accumulate,
                                  target.gradient);
    }

  private:
    ConvolutionKernel kernel_;
    std::int64_t pixels_;
    std::int64_t channels_;
};

class NormalisationStep : public Step {
  public:
    NormalisationStep(const NormalisationShape& shape, float momentum) : shape_(shape), momentum_(momentum) {}
    void infer(std::int64_t batch, const Node& node, Inputs inputs, float* output) override {
        const auto stored_mean = node.parameters[2].values();
        const auto stored_variance = node.parameters[3].values();
        stored_.mean.assign(stored_mean.begin(), stored_mean.end());
        stored_.variance.assign(stored_variance.begin(), stored_variance.end());
        normalise(shape_, batch, inputs[0], stored_.mean, stored_.variance, node.parameters[0].data(),
                  node.parameters[1].data(), output);
    }
    void forward(std::int64_t batch, Node& node, Inputs inputs, const PassDraw&, float* output) override {
        measure_statistics(shape_, batch, inputs[0], statistics_);
        normalise(shape_, batch, inputs[0], statistics_.mean, statistics_.variance, node.parameters[0].data(),
                  node.parameters[1].data(), output);
        // Running statistics take the unbiased variance, as inference sees the population, not the batch.
        const double count = static_cast<double>(batch * shape_.pixels);
        const double correction = count > 1 ? count / (count - 1) : 1.0;
        const auto move = [&](float& running, double newest) {
            running = static_cast<float>((1.0 - momentum_) * running + momentum_ * newest);
        };
        for (std::size_t c = 0; c < statistics_.mean.size(); ++c) {
            move(node.parameters[2].data()[c], statistics_.mean[c]);
            move(node.parameters[3].data()[c], statistics_.variance[c] * correction);
        }
    }
    void backward(std::int64_t batch, const Node& node, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        normalise_backward(shape_, batch, a.inputs[0], statistics_, node.parameters[0].data(),
                           a.output_gradient, target.accumulate, target.gradient,
                           (*a.parameter_gradients)[0].data(), (*a.parameter_gradients)[1].data());
    }

  private:
    NormalisationShape shape_;
    double momentum_;
    BatchStatistics statistics_;
    BatchStatistics stored_;
};

class ReluStep : public Step {
  public:
    explicit ReluStep(std::int64_t size) : size_(size) {}
    void infer(std::int64_t batch, const Node&, Inputs inputs, float* output) override {
        relu(batch, size_, inputs[0], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            relu_backward(batch, size_, a.output, a.output_gradient, target.accumulate, target.gradient);
    }

  private:
    std::int64_t size_;
};

class MaxPoolingStep : public Step {
  public:
    MaxPoolingStep(const PoolingShape& shape, std::int64_t capacity) : shape_(shape), capacity_(capacity) {}
    void infer(std::int64_t batch, const Node&, Inputs inputs, float* output) override {
        max_pool(shape_, batch, inputs[0], output, nullptr);
    }
    void forward(std::int64_t batch, Node&, Inputs inputs, const PassDraw&, float* output) override {
        winners_.resize(
            static_cast<std::size_t>(capacity_ * shape_.out_height() * shape_.out_width() * shape_.channels));
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
    std::int64_t capacity_;
    std::vector<std::int32_t> winners_;
};

class AveragePoolingStep : public Step {
  public:
    explicit AveragePoolingStep(const PoolingShape& shape) : shape_(shape) {}
    void infer(std::int64_t batch, const Node&, Inputs inputs, float* output) override {
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

class GlobalAverageStep : public Step {
  public:
    GlobalAverageStep(std::int64_t pixels, std::int64_t channels) : pixels_(pixels), channels_(channels) {}
    void infer(std::int64_t batch, const Node&, Inputs inputs, float* output) override {
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

class FlattenStep : public Step {
  public:
    FlattenStep(std::int64_t pixels, std::int64_t channels) : pixels_(pixels), channels_(channels) {}
    void infer(std::int64_t batch, const Node&, Inputs inputs, float* output) override {
        to_channels_first(pixels_, channels_, batch, inputs[0], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            to_channels_last(pixels_, channels_, batch, a.output_gradient, target.accumulate,
                             target.gradient);
    }

  private:
    std::int64_t pixels_;
    std::int64_t channels_;
};

class DenseStep : public Step {
  public:
    DenseStep(std::int64_t in, std::int64_t out) : kernel_(in, out), channels_(out) {}
    void infer(std::int64_t batch, const Node& node, Inputs inputs, float* output) override {
        kernel_.forward(batch, inputs[0], node.parameters[0].data(), bias_of(node), output);
    }
    void backward(std::int64_t batch, const Node& node, const BackwardArguments& a) override {
        kernel_.weight_gradient(batch, a.inputs[0], a.output_gradient, (*a.parameter_gradients)[0].data());
        if (float* bias = bias_gradient_of(a)) sum_rows(batch * pixels_, channels_, a.output_gradient, bias);
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            kernel_.data_gradient(batch, a.output_gradient, node.parameters[0].data(), target.accumulate,
                                  target.gradient);
    }

  private:
    DenseKernel kernel_;
    std::int64_t pixels_ = 1;
    std::int64_t channels_;
};

class AddStep : public Step {
  public:
    explicit AddStep(std::int64_t size) : size_(size) {}
    void infer(std::int64_t batch, const Node&, Inputs inputs, float* output) override {
        add(batch, size_, inputs[0], inputs[1], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        for (const auto& target : a.input_gradients)
            if (target.gradient != nullptr)
                pass_gradient(batch, size_, a.output_gradient, target.accumulate, target.gradient);
    }

  private:
    std::int64_t size_;
};

class DropoutStep : public Step {
  public:
    DropoutStep(std::int64_t size, std::int64_t capacity, std::size_t layer)
        : size_(size), layer_(static_cast<std::uint32_t>(layer)), mask_({capacity, size}) {}
    void infer(std::int64_t batch, const Node&, Inputs inputs, float* output) override {
        pass_gradient(batch, size_, inputs[0], false, output);
    }
    void forward(std::int64_t batch, Node& node, Inputs inputs, const PassDraw& draw,
                 float* output) override {
        const DropoutDraw keyed{std::get<Dropout>(node.op).rate, draw.seed, draw.epoch, layer_, draw.items};
        dropout(keyed, batch, size_, inputs[0], output, mask_.data());
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            dropout_backward(batch, size_, mask_.data(), a.output_gradient, target.accumulate,
                             target.gradient);
    }

  private:
    std::int64_t size_;
    std::uint32_t layer_;
    Tensor mask_;
};

PoolingShape pooling_shape(const Window& w, const Shape& input, bool count_padding) {
    return {input[0],       input[1],  input[2],   w.kernel_height, w.kernel_width, w.stride_height,
            w.stride_width, w.pad_top, w.pad_left, w.pad_bottom,    w.pad_right,    count_padding};
}

ConvolutionShape convolution_shape(const Node& node, const Shape& input) {
    const Window& w = std::get<Convolution>(node.op).window;
    return {input[0],        input[1],       input[2],        node.parameters[0].shape()[3],
            w.kernel_height, w.kernel_width, w.stride_height, w.stride_width,
            w.pad_top,       w.pad_left,     w.pad_bottom,    w.pad_right};
}

}  // namespace

std::unique_ptr<Step> make_step(const Node& node, const std::vector<Shape>& inputs, const Shape& output,
                                std::int64_t capacity, std::size_t index) {
    const std::int64_t size = element_count(output);
    const auto pixels = [&] { return inputs[0].size() == 3 ? inputs[0][0] * inputs[0][1] : 1; };
    const auto channels = [&] { return inputs[0].back(); };
    if (std::holds_alternative<Convolution>(node.op))
        return std::make_unique<ConvolutionStep>(convolution_shape(node, inputs[0]));
    if (const auto* op = std::get_if<BatchNormalisation>(&node.op))
        return std::make_unique<NormalisationStep>(NormalisationShape{pixels(), channels(), op->epsilon},
                                                   op->momentum);
    if (std::holds_alternative<Relu>(node.op)) return std::make_unique<ReluStep>(size);
    if (const auto* op = std::get_if<MaxPooling>(&node.op))
        return std::make_unique<MaxPoolingStep>(pooling_shape(op->window, inputs[0], false), capacity);
    if (const auto* op = std::get_if<AveragePooling>(&node.op))
        return std::make_unique<AveragePoolingStep>(pooling_shape(op->window, inputs[0], op->count_padding));
    if (std::holds_alternative<GlobalAveragePooling>(node.op))
        return std::make_unique<GlobalAverageStep>(pixels(), channels());
    if (std::holds_alternative<Flatten>(node.op)) return std::make_unique<FlattenStep>(pixels(), channels());
    if (std::holds_alternative<Dense>(node.op)) return std::make_unique<DenseStep>(inputs[0][0], size);
    if (std::holds_alternative<Add>(node.op)) return std::make_unique<AddStep>(size);
    assert(std::holds_alternative<Dropout>(node.op));
    return std::make_unique<DropoutStep>(size, capacity, index);
}

}  // namespace jevrin
