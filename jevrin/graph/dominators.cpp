#include "jevrin/graph/dominators.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

Dominators::Dominators(const Network& network) {
    for (const Node& node : network.nodes) add(node.inputs);
}

Dominators::Dominators(const std::vector<std::vector<std::size_t>>& inputs) {
    for (const auto& of_node : inputs) add(of_node);
}

// Nodes stand in the order of computation, so one pass suffices (Cooper, Harvey and Kennedy 2001), and of two
// nodes the later one is never before the other on the way.
void Dominators::add(std::span<const std::size_t> inputs) {
    std::size_t nearest = nearest_.empty() ? 0 : none;
    for (const std::size_t input : inputs) {
        if (nearest_[input] == none) continue;
        nearest = nearest == none ? input : common(nearest, input);
    }
    nearest_.push_back(nearest);
}

std::size_t Dominators::common(std::size_t a, std::size_t b) const {
    while (a != b) {
        if (a < b) std::swap(a, b);
        a = nearest_[a];
    }
    return a;
}

std::vector<std::size_t> Dominators::chain(std::size_t node) const {
    std::vector<std::size_t> nodes = {node};
    while (nodes.back() != 0 && depends_on_image(nodes.back())) nodes.push_back(nearest(nodes.back()));
    std::reverse(nodes.begin(), nodes.end());
    return nodes;
}

}  // namespace jevrin::inline v1
