#include "jevrin/graph/rewrite.hpp"

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

namespace {

// Nodes by what happens to them at a cut.
struct Cut {
    std::set<std::size_t> crossing;  // whose values cross
    std::set<std::size_t> moved;     // constants that only nodes behind it read
};

Cut find_cut(const Network& network, std::size_t first_trained) {
    Cut cut;
    std::set<std::size_t> read_before;
    for (std::size_t i = 0; i < first_trained; ++i)
        read_before.insert(network.nodes[i].inputs.begin(), network.nodes[i].inputs.end());
    for (std::size_t i = first_trained; i < network.nodes.size(); ++i)
        for (const std::size_t input : network.nodes[i].inputs) {
            if (input >= first_trained) continue;
            const auto* constant = std::get_if<Constant>(&network.nodes[input].op);
            // A fixed number may stand on both sides.
            const bool moves = constant != nullptr && (read_before.count(input) == 0 || !constant->trained);
            (moves ? cut.moved : cut.crossing).insert(input);
        }
    return cut;
}

}  // namespace

Network network_until(const Network& network, std::size_t last) {
    std::vector<bool> used(last + 1, false);
    used[0] = used[last] = true;
    for (std::size_t i = last + 1; i-- > 0;)
        if (used[i])
            for (const std::size_t input : network.nodes[i].inputs) used[input] = true;
    Network result{network.input, {}};
    std::vector<std::size_t> place(last + 1, 0);
    for (std::size_t i = 0; i <= last; ++i) {
        if (!used[i]) continue;
        place[i] = result.nodes.size();
        result.nodes.push_back(network.nodes[i]);
        for (std::size_t& input : result.nodes.back().inputs) input = place[input];
    }
    return result;
}

Division divide(const Network& network, std::size_t first_trained) {
    const Cut cut = find_cut(network, first_trained);
    if (cut.crossing.size() != 1) {
        std::vector<std::string> names;
        for (const std::size_t i : cut.crossing) names.push_back(printable(network.nodes[i].name));
        throw InputError(fmt::format(
            "training cannot begin at layer '{}': {} values cross that boundary ({}); choose "
            "the beginning of a stage",
            printable(network.nodes.at(first_trained).name), names.size(), fmt::join(names, ", ")));
    }
    const std::size_t boundary = *cut.crossing.begin();
    Division division{network_until(network, boundary), {}};
    division.trained.input = infer_shapes(network)[boundary];
    division.trained.add("boundary", Input{}, {});
    std::map<std::size_t, std::size_t> place = {{boundary, 0}};
    const auto take = [&](std::size_t i) {
        Node node = network.nodes[i];
        for (std::size_t& input : node.inputs) input = place.at(input);
        place[i] = division.trained.nodes.size();
        division.trained.nodes.push_back(std::move(node));
    };
    for (const std::size_t constant : cut.moved) take(constant);
    for (std::size_t i = first_trained; i < network.nodes.size(); ++i) take(i);
    return division;
}

std::size_t cut_before(const Network& network, std::size_t first_trained) {
    for (std::size_t i = first_trained; i > 1; --i)
        if (find_cut(network, i).crossing.size() == 1) return i;
    return 1;
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

namespace {

// Features as a vector: the mean over the places of a map, or over the tokens of rows.
Network as_vector(Network network) {
    const Shape shape = infer_shapes(network).back();
    const std::size_t last = network.nodes.size() - 1;
    if (shape.size() == 1) return network;
    if (shape.size() == 3) {
        const bool one_place = shape[0] * shape[1] == 1;
        const std::size_t x =
            one_place ? last : network.add("features.average", GlobalAveragePooling{}, {last});
        network.add("features.flatten", Flatten{}, {x});
    } else if (shape.size() == 2) {
        network.add("features.average", Reduction{ReductionKind::mean, {0}, false}, {last});
    } else {
        throw InputError(
            fmt::format("the value at '{}' is {}, which is neither a vector, an image nor rows of "
                        "tokens; name another node",
                        printable(network.nodes[last].name), to_string(shape)));
    }
    return network;
}

}  // namespace

Network without_head(const Network& network, const std::string& features) {
    if (!features.empty()) {
        std::vector<std::string> names;
        for (std::size_t i = 1; i < network.nodes.size(); ++i) {
            if (network.nodes[i].name == features) return as_vector(network_until(network, i));
            names.push_back(network.nodes[i].name);
        }
        throw InputError(
            fmt::format("it has no layer called '{}'{}", printable(features), did_you_mean(features, names)));
    }
    for (const Node& node : network.nodes)
        if (stage_of(node) == "head" && !node.inputs.empty() && node.inputs[0] > 0)
            return as_vector(network_until(network, node.inputs[0]));
    for (std::size_t i = network.nodes.size(); i-- > 1;)
        if (std::holds_alternative<Dense>(network.nodes[i].op))
            return as_vector(network_until(network, network.nodes[i].inputs[0]));
    for (std::size_t i = network.nodes.size(); i-- > 1;)
        if (std::holds_alternative<GlobalAveragePooling>(network.nodes[i].op))
            return as_vector(network_until(network, i));
    throw InputError(
        "it has neither a dense layer nor a global pooling, so its features must be named: give 'features' "
        "the name of the layer whose value they are");
}

std::size_t find_head(const Network& network) {
    for (std::size_t i = 1; i < network.nodes.size(); ++i)
        if (stage_of(network.nodes[i]) == "head") return i;
    for (std::size_t i = network.nodes.size(); i-- > 1;)
        if (std::holds_alternative<Dense>(network.nodes[i].op)) return i;
    return 0;
}

std::optional<Division> divide_at_head(const Network& network) {
    const std::size_t head = find_head(network);
    if (head < 2 || cut_before(network, head) != head) return std::nullopt;
    Division halves = divide(network, head);
    if (infer_shapes(halves.frozen).back().size() != 1) return std::nullopt;
    return halves;
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
        // A sum takes the relu behind it along.
        if (is_activation(node.op, FunctionKind::relu) && users[node.inputs[0]] == 1)
            if (auto* sum = std::get_if<Arithmetic>(&folded.nodes[place.at(node.inputs[0])].op);
                sum != nullptr && !sum->rectified) {
                sum->rectified = true;
                place[i] = place.at(node.inputs[0]);
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
