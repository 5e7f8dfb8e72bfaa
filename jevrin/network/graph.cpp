#include "jevrin/network/graph.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cassert>

namespace jevrin {
namespace {

template <typename... Cases>
struct Overloaded : Cases... {
    using Cases::operator()...;
};
template <typename... Cases>
Overloaded(Cases...) -> Overloaded<Cases...>;

[[noreturn]] void clash(const Node& node, const std::string& what) {
    throw InputError(fmt::format("layer '{}' ({}): {}", printable(node.name), operator_name(node.op), what));
}

Shape image_shape(const Node& node, const Shape& shape) {
    if (shape.size() != 3)
        clash(node,
              fmt::format("needs an image [height, width, channels] and gets {}; move it before the flatten",
                          to_string(shape)));
    return shape;
}

Shape windowed(const Node& node, const Window& w, const Shape& in, std::int64_t channels) {
    const auto positive = {w.kernel_height, w.kernel_width, w.stride_height, w.stride_width};
    const auto pads = {w.pad_top, w.pad_left, w.pad_bottom, w.pad_right};
    if (std::min(positive) < 1 || std::min(pads) < 0)
        clash(node, "kernel and stride must be positive, padding not negative");
    const std::int64_t height = in[0] + w.pad_top + w.pad_bottom;
    const std::int64_t width = in[1] + w.pad_left + w.pad_right;
    if (height < w.kernel_height || width < w.kernel_width)
        clash(node, fmt::format(
                        "its {}x{} window is larger than the padded image {}x{}; use larger images or fewer "
                        "strides before it",
                        w.kernel_height, w.kernel_width, height, width));
    return {(height - w.kernel_height) / w.stride_height + 1, (width - w.kernel_width) / w.stride_width + 1,
            channels};
}

Shape pooled(const Node& node, const Window& w, const Shape& in) {
    if (w.pad_top >= w.kernel_height || w.pad_bottom >= w.kernel_height || w.pad_left >= w.kernel_width ||
        w.pad_right >= w.kernel_width)
        clash(node, "its padding is as large as its window; use less padding");
    return windowed(node, w, in, in[2]);
}

Shape output_shape(const Node& node, const std::vector<Shape>& in, const Shape& input) {
    const auto parameter = [&](std::size_t i) -> const Shape& { return node.parameters.at(i).shape(); };
    return std::visit(
        Overloaded{
            [&](const Input&) { return input; },
            [&](const Convolution& op) {
                const Shape image = image_shape(node, in[0]);
                if (image[2] != parameter(0)[2])
                    clash(node, fmt::format("its weights need {} channels and it gets {}", parameter(0)[2],
                                            image[2]));
                return windowed(node, op.window, image, parameter(0)[3]);
            },
            [&](const BatchNormalisation&) {
                if (in[0].back() != parameter(0)[0])
                    clash(node,
                          fmt::format("it has {} channels and it gets {}", parameter(0)[0], in[0].back()));
                return in[0];
            },
            [&](const Relu&) { return in[0]; },
            [&](const MaxPooling& op) { return pooled(node, op.window, image_shape(node, in[0])); },
            [&](const AveragePooling& op) { return pooled(node, op.window, image_shape(node, in[0])); },
            [&](const GlobalAveragePooling&) {
                return Shape{1, 1, image_shape(node, in[0])[2]};
            },
            [&](const Flatten&) { return Shape{element_count(in[0])}; },
            [&](const Dense&) {
                if (in[0].size() != 1)
                    clash(node, fmt::format("needs a vector and gets {}; add a flatten before it",
                                            to_string(in[0])));
                if (in[0][0] != parameter(0)[0])
                    clash(node, fmt::format("its weights need {} features and it gets {}", parameter(0)[0],
                                            in[0][0]));
                return Shape{parameter(0)[1]};
            },
            [&](const Add&) {
                if (in[0] != in[1])
                    clash(node, fmt::format("adds {} and {}; both must have one shape", to_string(in[0]),
                                            to_string(in[1])));
                return in[0];
            },
            [&](const Dropout&) { return in[0]; },
        },
        node.op);
}

}  // namespace

std::size_t Network::add(std::string name, Operator op, std::vector<std::size_t> inputs,
                         std::vector<Tensor> parameters) {
    nodes.push_back({std::move(name), std::move(op), std::move(inputs), std::move(parameters)});
    return nodes.size() - 1;
}

ParameterKind parameter_kind(const Operator& op, std::size_t index) {
    if (std::holds_alternative<BatchNormalisation>(op))
        return index < 2 ? ParameterKind::normalisation : ParameterKind::statistic;
    return index == 0 ? ParameterKind::weight : ParameterKind::bias;
}

std::string operator_name(const Operator& op) {
    static const char* const names[] = {"input",
                                        "convolution",
                                        "batch normalisation",
                                        "relu",
                                        "max pooling",
                                        "average pooling",
                                        "global average",
                                        "flatten",
                                        "dense",
                                        "add",
                                        "dropout"};
    static_assert(std::variant_size_v<Operator> == std::size(names));
    return names[op.index()];
}

std::vector<Shape> infer_shapes(const Network& network) {
    std::vector<Shape> shapes;
    for (const Node& node : network.nodes) {
        std::vector<Shape> inputs;
        for (const std::size_t i : node.inputs) {
            assert(i < shapes.size());
            inputs.push_back(shapes[i]);
        }
        shapes.push_back(output_shape(node, inputs, network.input));
    }
    return shapes;
}

std::int64_t parameter_count(const Network& network, std::size_t first_node) {
    std::int64_t count = 0;
    for (std::size_t i = first_node; i < network.nodes.size(); ++i) {
        const Node& node = network.nodes[i];
        for (std::size_t p = 0; p < node.parameters.size(); ++p)
            if (parameter_kind(node.op, p) != ParameterKind::statistic) count += node.parameters[p].size();
    }
    return count;
}

std::int64_t multiplication_count(const Network& network, std::size_t first_node) {
    const std::vector<Shape> shapes = infer_shapes(network);
    std::int64_t count = 0;
    for (std::size_t i = first_node; i < network.nodes.size(); ++i) {
        const Node& node = network.nodes[i];
        if (std::holds_alternative<Convolution>(node.op))
            count += shapes[i][0] * shapes[i][1] * node.parameters[0].size();
        else if (std::holds_alternative<Dense>(node.op))
            count += node.parameters[0].size();
    }
    return count;
}

std::string stage_of(const Node& node) {
    return node.name.substr(0, node.name.find_first_of("./"));
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

std::size_t find_boundary(const Network& network, const std::string& stage_or_node) {
    for (std::size_t i = 1; i < network.nodes.size(); ++i)
        if (network.nodes[i].name == stage_or_node || stage_of(network.nodes[i]) == stage_or_node) return i;
    const std::vector<std::string> stages = stage_names(network);
    throw InputError(fmt::format("no stage or layer is called '{}'{}; the stages are {}",
                                 printable(stage_or_node), did_you_mean(stage_or_node, stages),
                                 fmt::join(stages, ", ")));
}

}  // namespace jevrin
