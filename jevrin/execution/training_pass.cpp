#include "jevrin/execution/training_pass.hpp"

#include "jevrin/execution/compiled_network.hpp"
#include "jevrin/graph/shared_parameters.hpp"

#include <algorithm>
#include <cassert>

namespace jevrin::inline v1 {

TrainingPass::TrainingPass(Network& network, std::int64_t capacity)
    : network_(network), compiled_(std::make_unique<CompiledNetwork>(network, PassKind::training)) {
    compiled_->allocate(capacity);
    const auto& instructions = compiled_->instructions();
    parameter_gradients_.resize(instructions.size());
    backward_.resize(instructions.size());
    gradient_written_.resize(instructions.size() + 1);
    std::size_t most_inputs = 0;
    for (std::size_t k = 0; k < instructions.size(); ++k) {
        Node& node = network.nodes[instructions[k].node];
        for (std::size_t p = 0; p < node.parameters.size() && !node.frozen; ++p)
            if (parameter_kind(node.op, p) != ParameterKind::statistic)
                parameter_gradients_[k].emplace_back(node.parameters[p].shape());
        for (std::size_t p = 0; p < parameter_gradients_[k].size(); ++p)
            add_parameter(instructions[k].node, p, parameter_gradients_[k][p]);
        backward_[k].inputs.resize(node.inputs.size());
        backward_[k].input_gradients.resize(node.inputs.size());
        backward_[k].parameter_gradients = &parameter_gradients_[k];
        most_inputs = std::max(most_inputs, node.inputs.size());
    }
    inputs_.reserve(most_inputs);
}

TrainingPass::~TrainingPass() = default;

void TrainingPass::add_parameter(std::size_t node, std::size_t p, Tensor& gradient) {
    Node& of = network_.nodes[node];
    parameters_.push_back({.value = of.parameters[p].values(),
                           .gradient = gradient.values(),
                           .kind = parameter_kind(of.op, p),
                           .rate_factor = static_cast<float>(of.rate_factor),
                           .node = node});
    const std::string& name = shared_name(of, p);
    if (name.empty()) return;
    Shared& shared = shared_.try_emplace(name, Shared{parameters_.size() - 1, {}}).first->second;
    shared.gradients.push_back(&gradient);
    parameters_.back().repeated = shared.gradients.size() > 1;
    parameters_.back().rate_factor = parameters_[shared.first].rate_factor;
}

const PassMemory& TrainingPass::memory() const {
    return compiled_->memory();
}

std::span<const float> TrainingPass::forward(std::int64_t batch, std::span<const float> input,
                                             const PassDraw& draw, const ValueObserver& observer) {
    assert(static_cast<std::int64_t>(input.size()) >= batch * compiled_->input_size());
    input_ = input.data();
    for (const auto& instruction : compiled_->instructions()) {
        inputs_.clear();
        for (const std::size_t from : instruction.inputs)
            inputs_.push_back(from == 0 ? input_ : compiled_->value(from));
        Node& node = network_.nodes[instruction.node];
        float* output = compiled_->value(instruction.output);
        if (node.frozen)
            instruction.operation->infer(batch, node, inputs_, output);
        else
            instruction.operation->forward(batch, node, inputs_, draw, output);
        if (observer)
            observer(instruction.last_node,
                     {output, static_cast<std::size_t>(batch * compiled_->size(instruction.output))});
    }
    const std::size_t last = compiled_->instructions().back().output;
    return {compiled_->value(last), static_cast<std::size_t>(batch * compiled_->output_size())};
}

void TrainingPass::backward(std::int64_t batch, std::span<const float> output_gradient) {
    assert(static_cast<std::int64_t>(output_gradient.size()) >= batch * compiled_->output_size());
    const auto& instructions = compiled_->instructions();
    std::fill(gradient_written_.begin(), gradient_written_.end(), false);
    gradient_written_.back() = true;
    float* own = compiled_->gradient(instructions.back().output);
    if (own != nullptr) std::copy_n(output_gradient.data(), batch * compiled_->output_size(), own);
    for (std::size_t k = instructions.size(); k-- > 0;) {
        const auto& instruction = instructions[k];
        if (!instruction.trains || !gradient_written_[instruction.output]) continue;
        BackwardArguments& arguments = backward_[k];
        // Steps write from the last input to the first, so a value read twice is first replaced, then added
        // to.
        for (std::size_t i = instruction.inputs.size(); i-- > 0;) {
            const std::size_t from = instruction.inputs[i];
            arguments.inputs[i] = from == 0 ? input_ : compiled_->value(from);
            float* gradient = from == 0 ? nullptr : compiled_->gradient(from);
            arguments.input_gradients[i] = {gradient, gradient_written_[from]};
            if (gradient != nullptr) gradient_written_[from] = true;
        }
        arguments.output = compiled_->value(instruction.output);
        arguments.output_gradient = compiled_->gradient(instruction.output);
        instruction.operation->backward(batch, network_.nodes[instruction.node], arguments);
    }
    for (const auto& [name, shared] : shared_) {
        const std::vector<Tensor*>& gradients = shared.gradients;
        const std::span<float> sum = gradients.front()->values();
        for (std::size_t other = 1; other < gradients.size(); ++other)
            for (std::size_t i = 0; i < sum.size(); ++i) sum[i] += gradients[other]->values()[i];
        for (std::size_t other = 1; other < gradients.size(); ++other)
            std::ranges::copy(sum, gradients[other]->values().begin());
    }
}

}  // namespace jevrin::inline v1
