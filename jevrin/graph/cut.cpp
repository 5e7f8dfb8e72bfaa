#include "jevrin/graph/cut.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/graph/feature_place.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <map>
#include <optional>
#include <set>

namespace jevrin::inline v1 {

using namespace operators;

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

NetworkHalves cut_network(const Network& network, std::size_t first_trained) {
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
    NetworkHalves halves{network_until(network, boundary), {}};
    halves.trained.input = infer_shapes(network)[boundary];
    halves.trained.add("boundary", Input{}, {});
    std::map<std::size_t, std::size_t> place = {{boundary, 0}};
    const auto take = [&](std::size_t i) {
        Node node = network.nodes[i];
        for (std::size_t& input : node.inputs) input = place.at(input);
        place[i] = halves.trained.nodes.size();
        halves.trained.nodes.push_back(std::move(node));
    };
    for (const std::size_t constant : cut.moved) take(constant);
    for (std::size_t i = first_trained; i < network.nodes.size(); ++i) take(i);
    return halves;
}

std::size_t cut_before(const Network& network, std::size_t first_trained) {
    for (std::size_t i = first_trained; i > 1; --i)
        if (find_cut(network, i).crossing.size() == 1) return i;
    return 1;
}

Network join_halves(const Network& frozen, const Network& trained) {
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

// A vector, however many axes of 1 stand before it.
bool is_vector(const Shape& shape) {
    return !shape.empty() && element_count(shape) == shape.back();
}

}  // namespace

std::optional<NetworkHalves> cut_at_head(const Network& network) {
    const std::size_t head = find_features(network).head;
    if (head < 2 || cut_before(network, head) != head) return std::nullopt;
    NetworkHalves halves = cut_network(network, head);
    if (!is_vector(infer_shapes(halves.frozen).back())) return std::nullopt;
    return halves;
}

}  // namespace jevrin::inline v1
