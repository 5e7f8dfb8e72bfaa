#include "jevrin/execution/inference.hpp"

#include "jevrin/execution/compiled_network.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/rewriting.hpp"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin::inline v1 {

Inference::Inference(const Network& network, std::int64_t capacity)
    : network_(rewrite(network, RewritingStage::before_inference)),
      capacity_(capacity),
      output_shape_(infer_shapes(network_).back()),
      compiled_(std::make_unique<CompiledNetwork>(network_, PassKind::inference)) {
    compiled_->allocate(capacity);
    for (const auto& instruction : compiled_->instructions())
        instruction.operation->lay_out_weights(network_.nodes[instruction.node]);
}

Inference::~Inference() = default;
Inference::Inference(Inference&&) noexcept = default;
Inference& Inference::operator=(Inference&&) noexcept = default;

std::int64_t Inference::bytes() const {
    std::int64_t weights = 0;
    for (const Node& node : network_.nodes)
        for (const Tensor& parameter : node.parameters) weights += parameter.size();
    return weights * static_cast<std::int64_t>(sizeof(float)) + compiled_->memory().total(1);
}

std::int64_t Inference::input_size() const {
    return compiled_->input_size();
}
std::int64_t Inference::output_size() const {
    return compiled_->output_size();
}

std::span<const float> Inference::run(std::int64_t batch, std::span<const float> input) {
    assert(batch >= 1 && batch <= capacity_);
    assert(static_cast<std::int64_t>(input.size()) >= batch * input_size());
    const float* result = input.data();
    for (const auto& instruction : compiled_->instructions()) {
        inputs_.clear();
        for (const std::size_t from : instruction.inputs)
            inputs_.push_back(from == 0 ? input.data() : compiled_->value(from));
        float* output = compiled_->value(instruction.output);
        instruction.operation->infer(batch, network_.nodes[instruction.node], inputs_, output);
        result = output;
    }
    return {result, static_cast<std::size_t>(batch * output_size())};
}

void class_probabilities(std::int64_t batch, std::int64_t classes, std::span<const float> logits,
                         std::span<float> probabilities) {
    for (std::int64_t n = 0; n < batch; ++n) {
        const float* row = logits.data() + n * classes;
        float* out = probabilities.data() + n * classes;
        const double largest = *std::max_element(row, row + classes);
        double sum = 0.0;
        for (std::int64_t c = 0; c < classes; ++c) sum += std::exp(row[c] - largest);
        for (std::int64_t c = 0; c < classes; ++c)
            out[c] = static_cast<float>(std::exp(row[c] - largest) / sum);
    }
}

}  // namespace jevrin::inline v1
