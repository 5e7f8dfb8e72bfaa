#include "jevrin/graph/freezing.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/graph/operator_description.hpp"
#include "jevrin/graph/shared_parameters.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

using namespace operators;

std::size_t boundary_of_last(const Network& network, std::size_t end, std::int64_t layers) {
    std::int64_t seen = 0;
    for (std::size_t i = end; i-- > 1;)
        if (describe(network.nodes[i].op).has_weight() && ++seen == layers) return i;
    throw InputError(fmt::format("the backbone has {} weighted layers, not {}", seen, layers));
}

std::size_t boundary_of_share(const Network& network, std::size_t end, double share) {
    std::int64_t all = 0;
    for (std::size_t i = 1; i < end; ++i) all += parameters_of(network.nodes[i]);
    std::int64_t from_here = 0;
    std::size_t first = end;
    for (std::size_t i = end; i-- > 1;) {
        from_here += parameters_of(network.nodes[i]);
        if (!describe(network.nodes[i].op).has_weight()) continue;
        first = i;
        if (static_cast<double>(from_here) >= share * static_cast<double>(all)) return i;
    }
    return first;
}

void freeze_before(Network& network, std::size_t first_trained) {
    for (std::size_t i = 0; i < network.nodes.size(); ++i) network.nodes[i].frozen = i < first_trained;
    part_shared_at(network, first_trained);
}

std::int64_t trainable_parameter_count(const Network& network) {
    ParameterCounter counter;
    std::int64_t count = 0;
    for (const Node& node : network.nodes)
        if (!node.frozen) count += counter.count(node);
    return count;
}

void fix_statistics(Network& network, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i)
        if (auto* normalisation = std::get_if<BatchNormalisation>(&network.nodes[i].op))
            normalisation->fixed = true;
}

void set_rate_factor(Network& network, const std::string& stage_or_node, double factor) {
    static_cast<void>(find_boundary(network, stage_or_node));
    for (const std::size_t i : nodes_of(network, stage_or_node)) network.nodes[i].rate_factor = factor;
}

}  // namespace jevrin::inline v1
