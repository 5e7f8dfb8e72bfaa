#include "jevrin/network/graph.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cassert>

namespace jevrin {
std::size_t Network::add(std::string name, Operator op, std::vector<std::size_t> inputs,
                         std::vector<Tensor> parameters) {
    nodes.push_back({.name = std::move(name),
                     .op = std::move(op),
                     .inputs = std::move(inputs),
                     .parameters = std::move(parameters)});
    return nodes.size() - 1;
}

ParameterKind parameter_kind(const Operator& op, std::size_t index) {
    if (std::holds_alternative<BatchNormalisation>(op))
        return index < 2 ? ParameterKind::normalisation : ParameterKind::statistic;
    if (std::holds_alternative<LayerNormalisation>(op) || std::holds_alternative<GroupNormalisation>(op) ||
        std::holds_alternative<ParametricRelu>(op))
        return ParameterKind::normalisation;
    if (const auto* constant = std::get_if<Constant>(&op))
        return constant->trained ? ParameterKind::bias : ParameterKind::statistic;
    return index == 0 ? ParameterKind::weight : ParameterKind::bias;
}

std::string operator_name(const Operator& op) {
    static const char* const names[] = {"input",
                                        "constant",
                                        "convolution",
                                        "batch normalisation",
                                        "layer normalisation",
                                        "group normalisation",
                                        "activation",
                                        "parametric relu",
                                        "max pooling",
                                        "average pooling",
                                        "global average pooling",
                                        "reduction",
                                        "softmax",
                                        "arithmetic",
                                        "matrix product",
                                        "dense",
                                        "concatenate",
                                        "slice",
                                        "padding",
                                        "transpose",
                                        "reshape",
                                        "flatten",
                                        "gather",
                                        "dropout"};
    static_assert(std::variant_size_v<Operator> == std::size(names));
    if (const auto* activation = std::get_if<Activation>(&op))
        return function_name(activation->function.kind);
    return names[op.index()];
}

std::int64_t parameters_of(const Node& node) {
    std::int64_t count = 0;
    for (std::size_t p = 0; p < node.parameters.size(); ++p)
        if (parameter_kind(node.op, p) != ParameterKind::statistic) count += node.parameters[p].size();
    return count;
}

std::int64_t parameter_count(const Network& network, std::size_t first_node) {
    std::int64_t count = 0;
    for (std::size_t i = first_node; i < network.nodes.size(); ++i) count += parameters_of(network.nodes[i]);
    return count;
}

std::int64_t multiplications_of(const Network& network, std::size_t i, const std::vector<Shape>& shapes) {
    const Node& node = network.nodes[i];
    if (std::holds_alternative<Convolution>(node.op))
        return shapes[i][0] * shapes[i][1] * node.parameters[0].size();
    if (std::holds_alternative<Dense>(node.op))
        return element_count(shapes[i]) / shapes[i].back() * node.parameters[0].size();
    if (std::holds_alternative<MatrixProduct>(node.op))
        return element_count(shapes[i]) * shapes[node.inputs[0]].back();
    return 0;
}

std::int64_t multiplication_count(const Network& network, std::size_t first_node) {
    const std::vector<Shape> shapes = infer_shapes(network);
    std::int64_t count = 0;
    for (std::size_t i = first_node; i < network.nodes.size(); ++i)
        count += multiplications_of(network, i, shapes);
    return count;
}

std::string stage_of(const Node& node) {
    const std::size_t begin = node.name.find_first_not_of('/');
    if (begin == std::string::npos) return node.name;
    return node.name.substr(begin, node.name.find_first_of("./", begin) - begin);
}

std::vector<std::string> stage_names(const Network& network) {
    std::vector<std::string> names;
    for (const Node& node : network.nodes) {
        if (std::holds_alternative<Input>(node.op)) continue;
        const std::string stage = stage_of(node);
        if (std::find(names.begin(), names.end(), stage) == names.end()) names.push_back(stage);
    }
    return names;
}

bool belongs_to(const Node& node, const std::string& stage_or_node) {
    if (node.name == stage_or_node || stage_of(node) == stage_or_node) return true;
    return node.name.starts_with(stage_or_node) && node.name.size() > stage_or_node.size() &&
           std::string_view("./:").find(node.name[stage_or_node.size()]) != std::string_view::npos;
}

std::size_t find_boundary(const Network& network, const std::string& stage_or_node) {
    for (std::size_t i = 1; i < network.nodes.size(); ++i)
        if (network.nodes[i].name == stage_or_node) return i;
    for (std::size_t i = 1; i < network.nodes.size(); ++i)
        if (belongs_to(network.nodes[i], stage_or_node)) return i;
    const std::vector<std::string> stages = stage_names(network);
    throw InputError(fmt::format("no stage or layer is called '{}'{}; the stages are {}",
                                 printable(stage_or_node), did_you_mean(stage_or_node, stages),
                                 fmt::join(stages, ", ")));
}

}  // namespace jevrin
