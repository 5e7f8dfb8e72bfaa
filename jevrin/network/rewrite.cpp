#include "jevrin/network/rewrite.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <cmath>
#include <map>
#include <optional>
#include <set>

namespace jevrin {
namespace {

std::vector<int> count_users(const Network& network) {
    std::vector<int> users(network.nodes.size(), 0);
    for (const Node& node : network.nodes)
        for (const std::size_t input : node.inputs) ++users[input];
    ++users.back();  // the output is used by the caller
    return users;
}

// Moves scale * (x - mean) / sqrt(variance + epsilon) + shift into the convolution that makes x.
void fold_normalisation(Node& convolution, const Node& normalisation) {
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

Division divide(const Network& network, std::size_t first_trained) {
    std::set<std::size_t> crossing;
    for (std::size_t i = first_trained; i < network.nodes.size(); ++i)
        for (const std::size_t input : network.nodes[i].inputs)
            if (input < first_trained) crossing.insert(input);
    if (crossing.size() != 1) {
        std::vector<std::string> names;
        for (const std::size_t i : crossing) names.push_back(printable(network.nodes[i].name));
        throw InputError(fmt::format(
            "training cannot begin at layer '{}': {} values cross that boundary ({}); choose "
            "the beginning of a stage",
            printable(network.nodes.at(first_trained).name), names.size(), fmt::join(names, ", ")));
    }
    const std::size_t boundary = *crossing.begin();
    Division division;
    division.frozen.input = network.input;
    // Nodes between the boundary value and the cut that feed nothing trained are left out.
    division.frozen.nodes.assign(network.nodes.begin(),
                                 network.nodes.begin() + static_cast<std::ptrdiff_t>(boundary) + 1);
    division.trained.input = infer_shapes(network)[boundary];
    division.trained.add("boundary", Input{}, {});
    for (std::size_t i = first_trained; i < network.nodes.size(); ++i) {
        Node node = network.nodes[i];
        for (std::size_t& input : node.inputs) input = input == boundary ? 0 : input - first_trained + 1;
        division.trained.nodes.push_back(std::move(node));
    }
    return division;
}

Network join(const Network& frozen, const Network& trained) {
    Network network = frozen;
    const std::size_t boundary = frozen.nodes.size() - 1;
    for (std::size_t i = 1; i < trained.nodes.size(); ++i) {
        Node node = trained.nodes[i];
        for (std::size_t& input : node.inputs) input += boundary;
        network.nodes.push_back(std::move(node));
    }
    return network;
}

Network without_head(const Network& network) {
    std::size_t end = network.nodes.size();
    bool dense_seen = false;
    while (end > 1) {
        const Operator& op = network.nodes[end - 1].op;
        const bool dense = std::holds_alternative<Dense>(op);
        if (!dense && !std::holds_alternative<Activation>(op) && !std::holds_alternative<Dropout>(op)) break;
        dense_seen = dense_seen || dense;
        --end;
    }
    if (!dense_seen)
        throw InputError(
            "it does not end in a dense layer, so there is no head to replace; give a classifier whose last "
            "layers are "
            "dense");
    Network backbone{network.input,
                     {network.nodes.begin(), network.nodes.begin() + static_cast<std::ptrdiff_t>(end)}};
    if (infer_shapes(backbone).back().size() != 1)
        throw InputError(
            "the value before its head is not a vector; give a classifier with a flatten before the head");
    return backbone;
}

Network fold_for_inference(const Network& network) {
    const std::vector<int> users = count_users(network);
    Network folded{network.input, {}};
    std::map<std::size_t, std::size_t> place;  // of each old node's value in the new network
    for (std::size_t i = 0; i < network.nodes.size(); ++i) {
        const Node& node = network.nodes[i];
        // The convolution this node may melt into, when that convolution's value has no other use.
        Node* before = nullptr;
        if (node.inputs.size() == 1 && users[node.inputs[0]] == 1) {
            Node& candidate = folded.nodes[place.at(node.inputs[0])];
            const auto* convolution = std::get_if<Convolution>(&candidate.op);
            if (convolution != nullptr && convolution->activation.kind == FunctionKind::identity)
                before = &candidate;
        }
        const bool melts = std::holds_alternative<BatchNormalisation>(node.op) ||
                           std::holds_alternative<Activation>(node.op);
        if (std::holds_alternative<Dropout>(node.op) || (before != nullptr && melts)) {
            place[i] = place.at(node.inputs[0]);
            if (std::holds_alternative<BatchNormalisation>(node.op)) fold_normalisation(*before, node);
            if (const auto* activation = std::get_if<Activation>(&node.op))
                std::get<Convolution>(before->op).activation = activation->function;
            continue;
        }
        Node copy = node;
        for (std::size_t& input : copy.inputs) input = place.at(input);
        folded.nodes.push_back(std::move(copy));
        place[i] = folded.nodes.size() - 1;
    }
    return folded;
}

}  // namespace jevrin
