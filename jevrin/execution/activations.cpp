#include "jevrin/execution/activations.hpp"

#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/stages.hpp"

#include <cmath>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

void describe(StageActivation& stage) {
    const auto count = static_cast<double>(stage.values.size());
    const auto channels = static_cast<std::size_t>(stage.values.shape().back());
    std::vector<bool> speaks(channels, false);
    double squares = 0.0;
    for (std::size_t i = 0; i < stage.values.values().size(); ++i) {
        const auto value = static_cast<double>(stage.values.values()[i]);
        stage.mean += value / count;
        squares += value * value / count;
        stage.zeros += value == 0.0 ? 1.0 / count : 0.0;
        if (value != 0.0) speaks[i % channels] = true;
    }
    stage.deviation = std::sqrt(std::max(0.0, squares - stage.mean * stage.mean));
    for (const bool one : speaks) stage.silent += one ? 0.0 : 1.0 / static_cast<double>(channels);
}

}  // namespace

StageActivation activation_at(const Network& network, std::size_t node, std::span<const float> input) {
    Inference inference(network_until(network, node), 1);
    const auto values = inference.run(1, input);
    StageActivation activation{.stage = stage_of(network.nodes[node]),
                               .layer = network.nodes[node].name,
                               .values = Tensor(inference.output_shape(), values)};
    if (!activation.values.shape().empty()) describe(activation);
    return activation;
}

std::vector<StageActivation> stage_activations(const Network& network, std::span<const float> input) {
    std::vector<StageActivation> stages;
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        const Node& node = network.nodes[i];
        const bool last = i + 1 == network.nodes.size() || stage_of(node) != stage_of(network.nodes[i + 1]);
        if (!last || std::holds_alternative<Constant>(node.op)) continue;
        StageActivation stage = activation_at(network, i, input);
        if (!stage.values.shape().empty()) stages.push_back(std::move(stage));
    }
    return stages;
}

const Tensor* first_filters(const Network& network) {
    for (const Node& node : network.nodes)
        if (std::holds_alternative<Convolution>(node.op)) return &node.parameters[0];
    return nullptr;
}

}  // namespace jevrin::inline v1
