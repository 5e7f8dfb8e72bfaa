#include "jevrin/graph/rewriting.hpp"

#include "jevrin/graph/rewrites.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <utility>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

std::vector<int> count_users(const Network& network) {
    std::vector<int> users(network.nodes.size(), 0);
    for (const Node& node : network.nodes)
        for (const std::size_t input : node.inputs) ++users[input];
    ++users.back();  // the output is used by the caller
    return users;
}

// Builds a network again without the nodes that are fused into the one before them. fuse(before, node)
// changes the node before, whose value has no other use, and returns whether the node is gone.
template <typename Fuse>
Network fused(Network network, Fuse fuse) {
    const std::vector<int> users = count_users(network);
    Network result{network.input, {}};
    std::vector<std::size_t> place(network.nodes.size(), 0);  // of each old node's value in the new network
    for (std::size_t i = 0; i < network.nodes.size(); ++i) {
        Node& node = network.nodes[i];
        if (node.inputs.size() == 1 && users[node.inputs[0]] == 1 &&
            fuse(result.nodes[place[node.inputs[0]]], std::as_const(node))) {
            place[i] = place[node.inputs[0]];
            continue;
        }
        result.nodes.push_back(std::move(node));
        for (std::size_t& input : result.nodes.back().inputs) input = place[input];
        place[i] = result.nodes.size() - 1;
    }
    return result;
}

// A convolution whose result nothing has been applied to yet; null for anything else.
Convolution* plain_convolution(Node& node) {
    auto* convolution = std::get_if<Convolution>(&node.op);
    return convolution != nullptr && convolution->activation.kind == FunctionKind::identity ? convolution
                                                                                            : nullptr;
}

// What a node applies to its result; null where it can apply nothing.
Function* function_behind(Node& node) {
    if (auto* convolution = std::get_if<Convolution>(&node.op)) return &convolution->activation;
    auto* dense = std::get_if<Dense>(&node.op);
    return dense != nullptr ? &dense->activation : nullptr;
}

// Moves scale * (x - mean) / sqrt(variance + epsilon) + shift into the convolution that makes x.
void fuse_normalisation(Node& convolution, const Node& normalisation) {
    const std::int64_t out = convolution.parameters[0].shape().back();
    if (convolution.parameters.size() < 2) convolution.parameters.emplace_back(Shape{out});
    Tensor& weight = convolution.parameters[0];
    Tensor& bias = convolution.parameters[1];
    const auto& p = normalisation.parameters;
    const auto epsilon = static_cast<double>(std::get<BatchNormalisation>(normalisation.op).epsilon);
    for (std::int64_t o = 0; o < out; ++o) {
        const double factor = p[0].data()[o] / std::sqrt(static_cast<double>(p[3].data()[o]) + epsilon);
        for (std::int64_t i = o; i < weight.size(); i += out)
            weight.data()[i] = static_cast<float>(weight.data()[i] * factor);
        bias.data()[o] = static_cast<float>(p[1].data()[o] + (bias.data()[o] - p[2].data()[o]) * factor);
    }
}

}  // namespace

Network remove_unused(Network network) {
    std::vector<bool> used(network.nodes.size(), false);
    used[0] = used.back() = true;
    for (std::size_t i = network.nodes.size(); i-- > 0;)
        if (used[i])
            for (const std::size_t input : network.nodes[i].inputs) used[input] = true;
    std::vector<std::size_t> place(network.nodes.size(), 0);
    std::vector<Node> kept;
    for (std::size_t i = 0; i < network.nodes.size(); ++i) {
        if (!used[i]) continue;
        for (std::size_t& input : network.nodes[i].inputs) input = place[input];
        place[i] = kept.size();
        kept.push_back(std::move(network.nodes[i]));
    }
    network.nodes = std::move(kept);
    return network;
}

Network fix_preparation(Network network) {
    if (network.input.size() != 3) return network;
    std::vector<bool> image(network.nodes.size(), false);  // the image, before any weight
    image[0] = true;
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        const Node& node = network.nodes[i];
        const auto prepares = [&](std::size_t input) {
            return image[input] || std::holds_alternative<Constant>(network.nodes[input].op);
        };
        if (!std::holds_alternative<Arithmetic>(node.op) || !std::ranges::all_of(node.inputs, prepares))
            continue;
        image[i] = std::ranges::any_of(node.inputs, [&](std::size_t input) { return image[input]; });
        if (!image[i]) continue;
        for (const std::size_t input : node.inputs)
            if (auto* constant = std::get_if<Constant>(&network.nodes[input].op))
                *constant = {.trained = false, .stored = constant->trained || constant->stored};
    }
    return network;
}

Network remove_dropout(Network network) {
    Network result{network.input, {}};
    std::vector<std::size_t> place(network.nodes.size(), 0);
    for (std::size_t i = 0; i < network.nodes.size(); ++i) {
        Node& node = network.nodes[i];
        for (std::size_t& input : node.inputs) input = place[input];
        if (std::holds_alternative<Dropout>(node.op)) {
            place[i] = node.inputs[0];
            continue;
        }
        place[i] = result.nodes.size();
        result.nodes.push_back(std::move(node));
    }
    return result;
}

Network fuse_normalisations(Network network) {
    return fused(std::move(network), [](Node& before, const Node& node) {
        if (!std::holds_alternative<BatchNormalisation>(node.op) || plain_convolution(before) == nullptr)
            return false;
        fuse_normalisation(before, node);
        return true;
    });
}

Network fuse_activations(Network network) {
    return fused(std::move(network), [](Node& before, const Node& node) {
        const auto* activation = std::get_if<Activation>(&node.op);
        Function* applied = activation != nullptr ? function_behind(before) : nullptr;
        if (applied == nullptr || applied->kind != FunctionKind::identity) return false;
        *applied = activation->function;
        return true;
    });
}

Network fuse_rectified_sums(Network network) {
    return fused(std::move(network), [](Node& before, const Node& node) {
        auto* sum =
            is_activation(node.op, FunctionKind::relu) ? std::get_if<Arithmetic>(&before.op) : nullptr;
        if (sum == nullptr || sum->rectified) return false;
        return sum->rectified = true;
    });
}

const std::vector<Rewrite>& rewrites() {
    using Stage = RewritingStage;
    static const std::vector<Rewrite> table = {
        {"recompose dense layers", Stage::after_reading, recompose_dense_layers},
        {"recompose layer normalisations", Stage::after_reading, recompose_layer_normalisations},
        {"recompose activations", Stage::after_reading, recompose_activations},
        {"remove unused nodes", Stage::after_reading, remove_unused},
        {"fix the preparation of images", Stage::after_reading, fix_preparation},
        {"remove dropout", Stage::before_inference, remove_dropout},
        {"fuse normalisations", Stage::before_inference, fuse_normalisations},
        {"fuse activations", Stage::before_inference, fuse_activations},
        {"fuse rectified sums", Stage::before_inference, fuse_rectified_sums},
        {"join separable convolutions", Stage::before_inference, join_separable_convolutions},
    };
    return table;
}

Network rewrite(Network network, RewritingStage stage) {
    for (const Rewrite& one : rewrites())
        if (one.stage == stage) network = one.apply(std::move(network));
    return network;
}

}  // namespace jevrin::inline v1
