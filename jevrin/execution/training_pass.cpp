#include "jevrin/execution/training_pass.hpp"

#include "jevrin/execution/compiled_network.hpp"
#include "jevrin/graph/shared_parameters.hpp"
#include "jevrin/tensor/bfloat16.hpp"

#include <algorithm>
#include <cassert>
#include <chrono>

namespace jevrin::inline v1 {

TrainingPass::TrainingPass(Network& network, std::int64_t capacity, KeptActivations kept)
    : network_(network), compiled_(std::make_unique<CompiledNetwork>(network, PassKind::training, kept)) {
    compiled_->allocate(capacity);
    const auto& instructions = compiled_->instructions();
    parameter_gradients_.resize(instructions.size());
    backward_.resize(instructions.size());
    gradient_written_.resize(instructions.size() + 1);
    widened_.resize(instructions.size() + 1);
    std::size_t most_inputs = 0;
    for (std::size_t k = 0; k < instructions.size(); ++k) {
        Node& node = network.nodes[instructions[k].node];
        for (std::size_t p = 0; p < node.parameters.size() && !node.frozen; ++p)
            if (parameter_kind(node.op, p) != ParameterKind::statistic)
                parameter_gradients_[k].emplace_back(node.parameters[p].shape());
        first_of_.push_back(parameters_.size());
        for (std::size_t p = 0; p < parameter_gradients_[k].size(); ++p)
            add_parameter(instructions[k].node, p, parameter_gradients_[k][p]);
        backward_[k].inputs.resize(instructions[k].inputs.size());
        backward_[k].input_gradients.resize(instructions[k].inputs.size());
        backward_[k].parameter_gradients = &parameter_gradients_[k];
        most_inputs = std::max(most_inputs, instructions[k].inputs.size());
    }
    inputs_.reserve(most_inputs);
    // What nodes share is ready at the end.
    for (const bool shared : {false, true})
        for (std::size_t k = instructions.size(); k-- > 0;)
            for (std::size_t p = 0; p < parameter_gradients_[k].size(); ++p)
                if (is_shared(first_of_[k] + p) == shared) ready_order_.push_back(first_of_[k] + p);
}

TrainingPass::~TrainingPass() = default;

void TrainingPass::add_parameter(std::size_t node, std::size_t p, Tensor& gradient) {
    Node& of = network_.nodes[node];
    parameters_.push_back({.value = of.parameters[p].values(),
                           .gradient = gradient.values(),
                           .kind = parameter_kind(of.op, p),
                           .rate_factor = static_cast<float>(of.rate_factor),
                           .node = node});
    gradients_.push_back(gradient.values());
    const std::string& name = shared_name(of, p);
    if (name.empty()) return;
    Shared& shared = shared_.try_emplace(name, Shared{parameters_.size() - 1, {}}).first->second;
    shared.gradients.push_back(&gradient);
    parameters_.back().repeated = shared.gradients.size() > 1;
    parameters_.back().rate_factor = parameters_[shared.first].rate_factor;
}

void TrainingPass::measure_nodes() {
    node_seconds_.assign(network_.nodes.size(), 0.0);
}

template <typename Work>
void TrainingPass::measured(std::size_t node, const Work& work) {
    if (node_seconds_.empty()) return work();
    const auto begin = std::chrono::steady_clock::now();
    work();
    node_seconds_[node] += std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

const PassMemory& TrainingPass::memory() const {
    return compiled_->memory();
}

std::span<const float> TrainingPass::forward(std::int64_t batch, std::span<const float> input,
                                             const PassDraw& draw, const ValueObserver& observer) {
    assert(static_cast<std::int64_t>(input.size()) >= batch * compiled_->input_size());
    input_ = input.data();
    for (const auto& instruction : compiled_->instructions()) {
        if (batch == 0 && !instruction.operation->meets_shards()) continue;
        inputs_.clear();
        for (const std::size_t from : instruction.inputs)
            inputs_.push_back(from == 0 ? input_ : compiled_->value(from));
        Node& node = network_.nodes[instruction.node];
        float* output = compiled_->value(instruction.output);
        measured(instruction.node, [&] {
            if (node.frozen)
                instruction.operation->infer(batch, node, inputs_, output);
            else
                instruction.operation->forward(batch, node, inputs_, draw, output);
            if (std::uint16_t* narrow = compiled_->narrow(instruction.output))
                narrow_to_bfloat16(batch * compiled_->size(instruction.output), output, narrow);
        });
        if (observer)
            observer(instruction.last_node,
                     {output, static_cast<std::size_t>(batch * compiled_->size(instruction.output))});
    }
    const std::size_t last = compiled_->instructions().back().output;
    return {compiled_->value(last), static_cast<std::size_t>(batch * compiled_->output_size())};
}

void TrainingPass::copy_statistics(std::vector<double>& statistics) const {
    statistics.clear();
    for (const auto& instruction : compiled_->instructions()) {
        const std::span<const double> own = instruction.operation->statistics();
        statistics.insert(statistics.end(), own.begin(), own.end());
    }
}

void TrainingPass::move_statistics(std::span<const double> statistics) {
    for (const auto& instruction : compiled_->instructions()) {
        const std::size_t count = instruction.operation->statistics().size();
        if (count == 0) continue;
        instruction.operation->move_statistics(network_.nodes[instruction.node], statistics.first(count));
        statistics = statistics.subspan(count);
    }
}

// What backward reads of a value that forward kept.
const float* TrainingPass::kept_value(std::size_t value, std::int64_t batch) {
    float* widened = compiled_->widened(value);
    if (widened == nullptr) return compiled_->value(value);
    if (!widened_[value]) widen_bfloat16(batch * compiled_->size(value), compiled_->narrow(value), widened);
    widened_[value] = true;
    return widened;
}

void TrainingPass::backward(std::int64_t batch, std::span<const float> output_gradient,
                            const std::function<void(std::size_t)>& ready) {
    assert(static_cast<std::int64_t>(output_gradient.size()) >= batch * compiled_->output_size());
    const auto& instructions = compiled_->instructions();
    std::size_t next = 0;  // of ready_order_
    std::fill(gradient_written_.begin(), gradient_written_.end(), false);
    gradient_written_.back() = true;
    std::fill(widened_.begin(), widened_.end(), false);
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
            float* gradient = from == 0 ? nullptr : compiled_->gradient(from);
            arguments.input_gradients[i] = {gradient, gradient_written_[from]};
            if (gradient != nullptr) gradient_written_[from] = true;
        }
        arguments.output_gradient = compiled_->gradient(instruction.output);
        if (batch > 0 || instruction.operation->meets_shards())
            measured(instruction.node, [&] {
                for (std::size_t i = 0; i < instruction.traits.kept_inputs; ++i) {
                    const std::size_t from = instruction.inputs[i];
                    arguments.inputs[i] = from == 0 ? input_ : kept_value(from, batch);
                }
                if (instruction.traits.keeps_output) arguments.output = kept_value(instruction.output, batch);
                instruction.operation->backward(batch, network_.nodes[instruction.node], arguments);
            });
        if (batch == 0)  // an empty shard
            for (Tensor& gradient : parameter_gradients_[k]) std::ranges::fill(gradient.values(), 0.0F);
        while (ready && next < ready_order_.size() && ready_order_[next] >= first_of_[k] &&
               ready_order_[next] < first_of_[k] + parameter_gradients_[k].size())
            ready(ready_order_[next++]);
    }
    for (const auto& [name, shared] : shared_) {
        const std::vector<Tensor*>& gradients = shared.gradients;
        const std::span<float> sum = gradients.front()->values();
        for (std::size_t other = 1; other < gradients.size(); ++other)
            for (std::size_t i = 0; i < sum.size(); ++i) sum[i] += gradients[other]->values()[i];
        for (std::size_t other = 1; other < gradients.size(); ++other)
            std::ranges::copy(sum, gradients[other]->values().begin());
    }
    while (ready && next < ready_order_.size()) ready(ready_order_[next++]);
}

bool TrainingPass::is_shared(std::size_t parameter) const {
    return parameters_[parameter].repeated ||
           std::any_of(shared_.begin(), shared_.end(),
                       [&](const auto& entry) { return entry.second.first == parameter; });
}

}  // namespace jevrin::inline v1
