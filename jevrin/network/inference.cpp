#include "jevrin/network/inference.hpp"

#include "jevrin/network/rewrite.hpp"
#include "jevrin/network/steps.hpp"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin {

Inference::Inference(const Network& network, std::int64_t capacity)
    : network_(fold_for_inference(network)), capacity_(capacity), shapes_(infer_shapes(network_)) {
    for (std::size_t i = 0; i < network_.nodes.size(); ++i) {
        const Node& node = network_.nodes[i];
        std::vector<Shape> inputs;
        for (const std::size_t input : node.inputs) inputs.push_back(shapes_[input]);
        values_.emplace_back(i == 0 ? Shape{0} : Shape{capacity, element_count(shapes_[i])});
        steps_.push_back(i == 0 ? nullptr : make_step(node, inputs, shapes_[i], capacity, i));
    }
}

Inference::~Inference() = default;
Inference::Inference(Inference&&) noexcept = default;
Inference& Inference::operator=(Inference&&) noexcept = default;

std::int64_t Inference::input_size() const {
    return element_count(network_.input);
}
std::int64_t Inference::output_size() const {
    return element_count(shapes_.back());
}

std::span<const float> Inference::run(std::int64_t batch, std::span<const float> input) {
    assert(batch >= 1 && batch <= capacity_);
    assert(static_cast<std::int64_t>(input.size()) >= batch * input_size());
    const auto value = [&](std::size_t i) { return i == 0 ? input.data() : values_[i].data(); };
    std::vector<const float*> inputs;
    for (std::size_t i = 1; i < network_.nodes.size(); ++i) {
        inputs.clear();
        for (const std::size_t from : network_.nodes[i].inputs) inputs.push_back(value(from));
        steps_[i]->infer(batch, network_.nodes[i], inputs, values_[i].data());
    }
    return {value(network_.nodes.size() - 1), static_cast<std::size_t>(batch * output_size())};
}

void softmax(std::int64_t batch, std::int64_t classes, std::span<const float> logits,
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

}  // namespace jevrin
