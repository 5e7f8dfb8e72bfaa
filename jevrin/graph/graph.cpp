#include "jevrin/graph/graph.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/graph/operator_description.hpp"
#include "jevrin/graph/shared_parameters.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cassert>

namespace jevrin::inline v1 {

using namespace operators;

std::size_t Network::add(std::string name, Operator op, std::vector<std::size_t> inputs,
                         std::vector<Tensor> parameters) {
    nodes.push_back({.name = std::move(name),
                     .op = std::move(op),
                     .inputs = std::move(inputs),
                     .parameters = std::move(parameters)});
    return nodes.size() - 1;
}

ParameterKind parameter_kind(const Operator& op, std::size_t index) {
    switch (describe(op).roles.at(index)) {
        case ParameterRole::weight:
            return ParameterKind::weight;
        case ParameterRole::bias:
            return ParameterKind::bias;
        case ParameterRole::scale:
        case ParameterRole::shift:
        case ParameterRole::slope:
            return ParameterKind::normalisation;
        case ParameterRole::mean:
        case ParameterRole::variance:
            return ParameterKind::statistic;
        case ParameterRole::value:
            return std::get<Constant>(op).trained ? ParameterKind::bias : ParameterKind::statistic;
    }
    unhandled(describe(op).roles[index]);
}

std::string operator_name(const Operator& op) {
    if (const auto* activation = std::get_if<Activation>(&op)) return name_of(activation->function.kind);
    return std::string(describe(op).name);
}

std::int64_t parameters_of(const Node& node) {
    return ParameterCounter().count(node);
}

std::int64_t parameter_count(const Network& network, std::size_t first_node) {
    ParameterCounter counter;
    std::int64_t count = 0;
    for (std::size_t i = first_node; i < network.nodes.size(); ++i) count += counter.count(network.nodes[i]);
    return count;
}

std::int64_t multiplications_of(const Network& network, std::size_t i, const std::vector<Shape>& shapes) {
    const Node& node = network.nodes[i];
    const auto count = describe(node.op).multiplications;
    if (count == nullptr) return 0;
    std::vector<Shape> inputs;
    for (const std::size_t input : node.inputs) inputs.push_back(shapes[input]);
    return count(node.parameters, inputs, shapes[i]);
}

void set_winograd(Network& network, bool winograd) {
    for (Node& node : network.nodes)
        if (auto* convolution = std::get_if<operators::Convolution>(&node.op))
            convolution->winograd = winograd;
}

std::int64_t multiplication_count(const Network& network, std::size_t first_node) {
    const std::vector<Shape> shapes = infer_shapes(network);
    std::int64_t count = 0;
    for (std::size_t i = first_node; i < network.nodes.size(); ++i)
        count += multiplications_of(network, i, shapes);
    return count;
}

}  // namespace jevrin::inline v1
