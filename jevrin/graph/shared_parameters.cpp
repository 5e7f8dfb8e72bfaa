#include "jevrin/graph/shared_parameters.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {
namespace {

// Calls visit(node, parameter, name) for all that have a name, in order.
template <typename Visit>
void for_shared(Network& network, std::size_t first_node, Visit visit) {
    for (std::size_t i = first_node; i < network.nodes.size(); ++i)
        for (std::size_t p = 0; p < network.nodes[i].parameters.size(); ++p)
            if (const std::string name = shared_name(network.nodes[i], p); !name.empty()) visit(i, p, name);
}

}  // namespace

const std::string& shared_name(const Node& node, std::size_t parameter) {
    static const std::string none;
    return parameter < node.shared.size() ? node.shared[parameter] : none;
}

void settle_shared(Network& network) {
    std::map<std::string, std::pair<std::size_t, std::size_t>> first;
    std::map<std::string, int> uses;
    const auto alike = [&](std::size_t i, std::size_t p, std::size_t j, std::size_t q) {
        const Node& a = network.nodes[i];
        const Node& b = network.nodes[j];
        return parameter_kind(a.op, p) == parameter_kind(b.op, q) &&
               a.parameters[p].shape() == b.parameters[q].shape() &&
               std::ranges::equal(a.parameters[p].values(), b.parameters[q].values());
    };
    for_shared(network, 0, [&](std::size_t i, std::size_t p, const std::string& name) {
        const auto place = first.try_emplace(name, i, p).first->second;
        const bool same = parameter_kind(network.nodes[i].op, p) != ParameterKind::statistic &&
                          alike(place.first, place.second, i, p);
        if (same)
            ++uses[name];
        else
            network.nodes[i].shared[p].clear();
    });
    for_shared(network, 0, [&](std::size_t i, std::size_t p, const std::string& name) {
        if (uses[name] < 2) network.nodes[i].shared[p].clear();
    });
}

void part_shared_at(Network& network, std::size_t first_trained) {
    std::set<std::string> before;
    for_shared(network, 0, [&](std::size_t i, std::size_t p, const std::string& name) {
        if (i < first_trained)
            before.insert(name);
        else if (before.contains(name))
            network.nodes[i].shared[p] += fmt::format(" (from node {})", first_trained);
    });
}

void copy_shared(Network& network, std::size_t first_node) {
    std::map<std::string, const Tensor*> first;
    for_shared(network, first_node, [&](std::size_t i, std::size_t p, const std::string& name) {
        Tensor& own = network.nodes[i].parameters[p];
        const Tensor* from = first.emplace(name, &own).first->second;
        if (from != &own) std::ranges::copy(from->values(), own.values().begin());
    });
}

std::int64_t ParameterCounter::count(const Node& node) {
    std::int64_t count = 0;
    for (std::size_t p = 0; p < node.parameters.size(); ++p) {
        const std::string& name = shared_name(node, p);
        if (parameter_kind(node.op, p) == ParameterKind::statistic) continue;
        if (name.empty() || seen_.insert(name).second) count += node.parameters[p].size();
    }
    return count;
}

}  // namespace jevrin::inline v1
