#include "jevrin/graph/layer_table.hpp"

#include "jevrin/graph/operator_description.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

std::string describe_window(const Window& w) {
    std::string text = fmt::format(" {}x{}", w.kernel_height, w.kernel_width);
    if (w.stride_height != 1 || w.stride_width != 1)
        text += w.stride_height == w.stride_width ? fmt::format(" /{}", w.stride_height)
                                                  : fmt::format(" /{}x{}", w.stride_height, w.stride_width);
    return text;
}

std::string describe_operator(const Node& node) {
    std::string text = operator_name(node.op);
    if (const auto* op = std::get_if<Convolution>(&node.op)) {
        text += describe_window(op->window);
        if (op->groups > 1) text += fmt::format(", {} groups", op->groups);
    }
    if (const auto* op = std::get_if<MaxPooling>(&node.op)) text += describe_window(op->window);
    if (const auto* op = std::get_if<AveragePooling>(&node.op)) text += describe_window(op->window);
    if (const auto* op = std::get_if<Arithmetic>(&node.op)) {
        static const char* const names[] = {"sum",   "difference", "product", "quotient",
                                            "power", "maximum",    "minimum"};
        text = names[static_cast<std::size_t>(op->kind)];
    }
    if (const auto* op = std::get_if<Dropout>(&node.op)) text += fmt::format(" {}", op->rate);
    return text;
}

}  // namespace

std::vector<LayerRow> layer_table(const Network& network) {
    const std::vector<Shape> shapes = infer_shapes(network);
    std::vector<LayerRow> layers;
    std::vector<std::size_t> row_of(network.nodes.size(), 0);
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        const Node& node = network.nodes[i];
        // A constant belongs to whoever reads it, which comes next.
        const bool begins = layers.empty() || describe(node.op).own_row ||
                            std::find(node.inputs.begin(), node.inputs.end(), i - 1) == node.inputs.end();
        if (begins)
            layers.push_back(
                {.name = node.name, .stage = stage_of(node), .operators = describe_operator(node)});
        else
            layers.back().operators += ", " + describe_operator(node);
        LayerRow& layer = layers.back();
        layer.shape = shapes[i];
        row_of[i] = layers.size() - 1;
        for (const std::size_t input : node.inputs)
            if (input > 0 && row_of[input] + 1 < layers.size()) layer.reads.push_back(row_of[input]);
        layer.parameters += parameters_of(node);
        layer.bytes += element_count(shapes[i]) * static_cast<std::int64_t>(sizeof(float));
        layer.trains = layer.trains || !node.frozen;
        layer.multiplications += multiplications_of(network, i, shapes);
    }
    return layers;
}

}  // namespace jevrin::inline v1
