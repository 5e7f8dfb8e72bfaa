// Finds the depthwise convolutions that are computed together with the 1x1 convolutions around them.
#include "jevrin/graph/kernel_shapes.hpp"
#include "jevrin/graph/rewrites.hpp"

#include <optional>
#include <utility>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// The nodes that become one, by their indices.
struct Chain {
    std::optional<std::size_t> expand;
    std::size_t depthwise = 0;
    std::optional<std::size_t> project;
    std::optional<std::size_t> sum;

    std::size_t last() const { return sum ? *sum : project ? *project : depthwise; }
};

class ChainFinder {
  public:
    explicit ChainFinder(const Network& network)
        : network_(network), shapes_(infer_shapes(network)), users_(network.nodes.size()) {
        for (std::size_t i = 0; i < network.nodes.size(); ++i)
            for (const std::size_t input : network.nodes[i].inputs) users_[input].push_back(i);
    }

    bool is_depthwise(std::size_t node) const {
        const std::optional<ConvolutionShape> shape = shape_of(node);
        return shape && shape->is_depthwise();
    }
    // taken: part of another chain already.
    std::optional<Chain> around(std::size_t depthwise, const std::vector<bool>& taken) const {
        Chain chain{.depthwise = depthwise};
        const std::size_t before = network_.nodes[depthwise].inputs[0];
        if (is_pointwise(before) && only_user(before) && !taken[before]) chain.expand = before;
        const std::optional<std::size_t> next = only_user(depthwise);
        if (next && is_pointwise(*next)) chain.project = next;
        if (chain.project) chain.sum = sum_behind(*chain.project);
        if (chain.sum && taken[*chain.sum]) chain.sum.reset();
        if (!chain.expand && !chain.project) return std::nullopt;
        return chain;
    }

    // The joined node; its inputs are those of the network before.
    Node joined(const Chain& chain) const {
        const Node& depthwise = network_.nodes[chain.depthwise];
        SeparableConvolution op{.expands = chain.expand.has_value(),
                                .projects = chain.project.has_value(),
                                .window = std::get<Convolution>(depthwise.op).window};
        Node node{network_.nodes[chain.last()].name, op, {}, {}};
        const std::optional<std::size_t> parts[] = {chain.expand, chain.depthwise, chain.project};
        for (std::size_t p = 0; p < std::size(parts); ++p) {
            if (!parts[p]) continue;
            const Node& part = network_.nodes[*parts[p]];
            if (node.inputs.empty()) node.inputs.push_back(part.inputs[0]);
            op.activations[p] = std::get<Convolution>(part.op).activation;
            node.parameters.push_back(part.parameters[0]);
            node.parameters.push_back(part.parameters.size() > 1 ? part.parameters[1]
                                                                 : Tensor({part.parameters[0].shape()[3]}));
        }
        if (chain.sum) node.inputs.push_back(other_term(*chain.sum, *chain.project));
        node.op = op;
        return node;
    }

    bool serves(const Node& node) const {
        return SeparableKernel::serves(separable_shape(node, shapes_[node.inputs[0]]));
    }

  private:
    std::optional<ConvolutionShape> shape_of(std::size_t node) const {
        const Node& of = network_.nodes[node];
        if (!std::holds_alternative<Convolution>(of.op)) return std::nullopt;
        return convolution_shape(of, shapes_[of.inputs[0]]);
    }
    bool is_pointwise(std::size_t node) const {
        const std::optional<ConvolutionShape> shape = shape_of(node);
        return shape && shape->is_pointwise();
    }
    std::optional<std::size_t> only_user(std::size_t node) const {
        return users_[node].size() == 1 ? std::optional(users_[node][0]) : std::nullopt;
    }
    std::size_t other_term(std::size_t sum, std::size_t term) const {
        const std::vector<std::size_t>& terms = network_.nodes[sum].inputs;
        return terms[terms[0] == term ? 1 : 0];
    }
    std::optional<std::size_t> sum_behind(std::size_t project) const {
        const std::optional<std::size_t> next = only_user(project);
        if (!next) return std::nullopt;
        const auto* sum = std::get_if<Arithmetic>(&network_.nodes[*next].op);
        if (sum == nullptr || sum->kind != ArithmeticKind::add || sum->rectified) return std::nullopt;
        if (shapes_[other_term(*next, project)] != shapes_[project]) return std::nullopt;
        return next;
    }

    const Network& network_;
    std::vector<Shape> shapes_;
    std::vector<std::vector<std::size_t>> users_;
};

}  // namespace

Network join_separable_convolutions(Network network) {
    const ChainFinder finder(network);
    std::vector<std::optional<Node>> joined(network.nodes.size());
    std::vector<bool> taken(network.nodes.size(), false);
    for (std::size_t i = 0; i < network.nodes.size(); ++i) {
        if (!finder.is_depthwise(i)) continue;
        const std::optional<Chain> chain = finder.around(i, taken);
        if (!chain) continue;
        Node node = finder.joined(*chain);
        if (!finder.serves(node)) continue;
        if (chain->project) taken[*chain->project] = true;
        if (chain->sum) taken[*chain->sum] = true;
        joined[chain->last()] = std::move(node);
    }
    for (std::size_t i = 0; i < network.nodes.size(); ++i)
        if (joined[i]) network.nodes[i] = std::move(*joined[i]);
    return remove_unused(std::move(network));
}

}  // namespace jevrin::inline v1
