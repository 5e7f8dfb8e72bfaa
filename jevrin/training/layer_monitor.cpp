#include "jevrin/training/layer_monitor.hpp"

#include "jevrin/training/optimiser.hpp"

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t none = static_cast<std::size_t>(-1);

bool has_dead_units(const Operator& op) {
    return is_activation(op, FunctionKind::relu) || is_activation(op, FunctionKind::clip);
}

}  // namespace

LayerMonitor::LayerMonitor(const Network& network, std::span<const TrainedParameter> parameters)
    : parameters_(parameters), layer_of_relu_(network.nodes.size(), none) {
    std::vector<std::size_t> layer_of_node(network.nodes.size(), none);
    for (std::size_t p = 0; p < parameters.size(); ++p) {
        const Node& node = network.nodes[parameters[p].node];
        std::size_t& layer = layer_of_node[parameters[p].node];
        if (layer == none) {
            layer = layers_.size();
            layers_.push_back({.name = node.name, .parameters = {}, .rate_factor = node.rate_factor});
        }
        layers_[layer].parameters.push_back(p);
        before_.emplace_back(parameters[p].value.size());
    }
    const std::vector<Shape> shapes = infer_shapes(network);
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        if (!has_dead_units(network.nodes[i].op)) continue;
        std::size_t from = network.nodes[i].inputs[0];
        while (from != 0 && layer_of_node[from] == none) {
            const auto& inputs = network.nodes[from].inputs;
            from = inputs.empty() ? 0 : inputs[0];
        }
        const std::size_t layer = layer_of_node[from];
        // Of several relus behind a layer the first stands for it.
        if (layer == none || layers_[layer].relu_units > 0) continue;
        layers_[layer].relu_units = shapes[i].back();
        layer_of_relu_[i] = layer;
    }
    restart();
}

LayerSums LayerMonitor::empty() const {
    LayerSums sums{.gradients = std::vector<double>(layers_.size(), 0.0),
                   .updates = std::vector<double>(layers_.size(), 0.0),
                   .alive = {}};
    for (const Layer& layer : layers_)
        sums.alive.emplace_back(static_cast<std::size_t>(layer.relu_units), '0');
    return sums;
}

bool LayerMonitor::looks_at(std::int64_t step, std::int64_t steps) {
    constexpr std::int64_t looks = 4;
    for (std::int64_t k = 1; k <= looks; ++k)
        if (step == std::max<std::int64_t>(1, k * steps / looks) - 1) return true;
    return false;
}

void LayerMonitor::see(std::size_t node, std::span<const float> values) {
    if (layer_of_relu_[node] == none) return;
    std::string& alive = sums_.alive[layer_of_relu_[node]];
    for (std::size_t row = 0; row < values.size(); row += alive.size())
        for (std::size_t unit = 0; unit < alive.size(); ++unit)
            alive[unit] = values[row + unit] > 0.0F ? '1' : alive[unit];
}

double LayerMonitor::weight_norm(const Layer& layer) const {
    double sum = 0.0;
    for (const std::size_t p : layer.parameters) sum += sum_of_squares(parameters_[p].value);
    return std::sqrt(sum);
}

double LayerMonitor::norm_of_gradients(const Layer& layer) const {
    double sum = 0.0;
    for (const std::size_t p : layer.parameters) sum += sum_of_squares(parameters_[p].gradient);
    return std::sqrt(sum);
}

void LayerMonitor::before_change() {
    for (std::size_t l = 0; l < layers_.size(); ++l) {
        sums_.gradients[l] += norm_of_gradients(layers_[l]);
        for (const std::size_t p : layers_[l].parameters)
            std::copy(parameters_[p].value.begin(), parameters_[p].value.end(), before_[p].begin());
    }
    ++sums_.looks;
}

void LayerMonitor::after_change() {
    for (std::size_t l = 0; l < layers_.size(); ++l) {
        double changed = 0.0;
        double weights = 0.0;
        for (const std::size_t p : layers_[l].parameters)
            for (std::size_t i = 0; i < before_[p].size(); ++i) {
                const double old = before_[p][i];
                const double change = static_cast<double>(parameters_[p].value[i]) - old;
                changed += change * change;
                weights += old * old;
            }
        if (weights > 0.0) sums_.updates[l] += std::sqrt(changed / weights);
    }
}

void LayerMonitor::restore(const LayerSums& sums) {
    const LayerSums own = empty();
    const auto fits = [&](const std::string& a, const std::string& b) { return a.size() == b.size(); };
    if (sums.gradients.size() == own.gradients.size() && sums.updates.size() == own.updates.size() &&
        std::equal(sums.alive.begin(), sums.alive.end(), own.alive.begin(), own.alive.end(), fits))
        sums_ = sums;
}

std::vector<LayerSummary> LayerMonitor::summaries(double learning_rate) const {
    std::vector<LayerSummary> result;
    const double looks = static_cast<double>(std::max<std::int64_t>(1, sums_.looks));
    for (std::size_t l = 0; l < layers_.size(); ++l) {
        const std::string& alive = sums_.alive[l];
        result.push_back({.layer = layers_[l].name,
                          .weight_norm = weight_norm(layers_[l]),
                          .gradient_norm = sums_.gradients[l] / looks,
                          .update_ratio = sums_.updates[l] / looks,
                          .dead_fraction = alive.empty() ? -1.0
                                                         : static_cast<double>(
                                                               std::count(alive.begin(), alive.end(), '0')) /
                                                               static_cast<double>(alive.size()),
                          .learning_rate = learning_rate * layers_[l].rate_factor});
    }
    return result;
}

LayerSummary LayerMonitor::steepest() const {
    LayerSummary result;
    double steepest = -1.0;
    for (const Layer& layer : layers_) {
        const LayerSummary here{.layer = layer.name,
                                .weight_norm = weight_norm(layer),
                                .gradient_norm = norm_of_gradients(layer)};
        if (!std::isfinite(here.gradient_norm)) return here;
        const double slope = here.gradient_norm / std::max(here.weight_norm, 1e-12);
        if (slope > steepest) result = here;
        steepest = std::max(steepest, slope);
    }
    return result;
}

}  // namespace jevrin::inline v1
