#include "jevrin/network/training_pass.hpp"

#include <algorithm>
#include <cassert>

namespace jevrin {

TrainingPass::TrainingPass(Network& network, std::int64_t capacity)
    : network_(network), shapes_(infer_shapes(network)) {
    const std::size_t count = network.nodes.size();
    std::vector<bool> needs_gradient(count, false);
    parameter_gradients_.resize(count);
    gradient_written_.resize(count);
    backward_.resize(count);
    for (std::size_t i = 0; i < count; ++i) {
        Node& node = network.nodes[i];
        std::vector<Shape> inputs;
        for (const std::size_t input : node.inputs) {
            inputs.push_back(shapes_[input]);
            if (needs_gradient[input]) needs_gradient[i] = true;
        }
        if (!node.parameters.empty()) needs_gradient[i] = true;
        steps_.push_back(i == 0 ? nullptr : make_step(node, inputs, shapes_[i], capacity, i));
        const Shape batch_shape{capacity, element_count(shapes_[i])};
        values_.push_back(
            {Tensor(i == 0 ? Shape{0} : batch_shape), Tensor(needs_gradient[i] ? batch_shape : Shape{0})});
        for (std::size_t p = 0; p < node.parameters.size(); ++p) {
            const ParameterKind kind = parameter_kind(node.op, p);
            if (kind != ParameterKind::statistic)
                parameter_gradients_[i].emplace_back(node.parameters[p].shape());
        }
        for (std::size_t p = 0; p < parameter_gradients_[i].size(); ++p)
            parameters_.push_back({node.parameters[p].values(), parameter_gradients_[i][p].values(),
                                   parameter_kind(node.op, p)});
        backward_[i].inputs.resize(node.inputs.size());
        backward_[i].input_gradients.resize(node.inputs.size());
        backward_[i].parameter_gradients = &parameter_gradients_[i];
    }
}

TrainingPass::~TrainingPass() = default;

std::span<const float> TrainingPass::forward(std::int64_t batch, std::span<const float> input,
                                             const PassDraw& draw) {
    input_ = input;
    for (std::size_t i = 1; i < steps_.size(); ++i) {
        Node& node = network_.nodes[i];
        inputs_.clear();
        for (const std::size_t from : node.inputs)
            inputs_.push_back(from == 0 ? input_.data() : values_[from].output.data());
        steps_[i]->forward(batch, node, inputs_, draw, values_[i].output.data());
    }
    return {values_.back().output.data(), static_cast<std::size_t>(batch * element_count(shapes_.back()))};
}

void TrainingPass::backward(std::int64_t batch, std::span<const float> output_gradient) {
    assert(static_cast<std::int64_t>(output_gradient.size()) >= batch * element_count(shapes_.back()));
    std::fill(gradient_written_.begin(), gradient_written_.end(), false);
    std::copy_n(output_gradient.data(), batch * element_count(shapes_.back()),
                values_.back().gradient.data());
    gradient_written_.back() = true;
    for (std::size_t i = steps_.size() - 1; i > 0; --i) {
        if (values_[i].gradient.empty() || !gradient_written_[i]) continue;
        const Node& node = network_.nodes[i];
        BackwardArguments& arguments = backward_[i];
        for (std::size_t k = 0; k < node.inputs.size(); ++k) {
            const std::size_t from = node.inputs[k];
            arguments.inputs[k] = from == 0 ? input_.data() : values_[from].output.data();
            Tensor& gradient = values_[from].gradient;
            arguments.input_gradients[k] = {gradient.empty() ? nullptr : gradient.data(),
                                            gradient_written_[from]};
            gradient_written_[from] = true;
        }
        arguments.output = values_[i].output.data();
        arguments.output_gradient = values_[i].gradient.data();
        steps_[i]->backward(batch, node, arguments);
    }
}

}  // namespace jevrin
