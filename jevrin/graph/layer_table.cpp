#include "jevrin/graph/layer_table.hpp"

#include "jevrin/graph/dominators.hpp"
#include "jevrin/graph/operator_description.hpp"
#include "jevrin/graph/shared_parameters.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

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
    if (const auto* op = std::get_if<Dropout>(&node.op))
        text += fmt::format(" {}", static_cast<float>(op->rate));
    return text;
}

}  // namespace

std::vector<LayerRow> layer_table(const Network& network) {
    const std::vector<Shape> shapes = infer_shapes(network);
    const Dominators dominators(network);
    std::vector<LayerRow> layers;
    std::vector<std::size_t> row_of(network.nodes.size(), 0);
    std::vector<std::size_t> waiting;  // constants, which belong to the layer that reads them
    ParameterCounter counter;
    std::map<std::string, std::string> first;  // node that has a shared parameter
    const auto add_node = [&](LayerRow& layer, std::size_t i) {
        const Node& node = network.nodes[i];
        layer.parameters += counter.count(node);
        for (std::size_t p = 0; p < node.parameters.size(); ++p)
            if (const std::string& name = shared_name(node, p); !name.empty())
                if (const auto [with, is_first] = first.emplace(name, node.name); !is_first)
                    layer.operators +=
                        fmt::format(", {} of {}", role_name(describe(node.op).roles[p]), with->second);
        layer.trains = layer.trains || !network.nodes[i].frozen;
    };
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        const Node& node = network.nodes[i];
        if (!dominators.depends_on_image(i)) {
            waiting.push_back(i);
            continue;
        }
        const bool begins =
            layers.empty() || describe(node.op).own_row ||
            std::ranges::none_of(node.inputs, [&](std::size_t input) {
                return input > 0 && dominators.depends_on_image(input) && row_of[input] + 1 == layers.size();
            });
        if (begins)
            layers.push_back(
                {.name = node.name, .stage = stage_of(node), .operators = describe_operator(node)});
        else
            layers.back().operators += ", " + describe_operator(node);
        LayerRow& layer = layers.back();
        layer.shape = shapes[i];
        layer.last = i;
        row_of[i] = layers.size() - 1;
        for (const std::size_t input : node.inputs)
            if (input > 0 && dominators.depends_on_image(input) && row_of[input] + 1 < layers.size())
                layer.reads.push_back(row_of[input]);
        add_node(layer, i);
        for (const std::size_t constant : waiting) add_node(layer, constant);
        waiting.clear();
        layer.bytes += element_count(shapes[i]) * static_cast<std::int64_t>(sizeof(float));
        layer.multiplications += multiplications_of(network, i, shapes);
    }
    return layers;
}

std::vector<StageRow> stage_table(const std::vector<LayerRow>& layers) {
    std::vector<StageRow> stages;
    for (const LayerRow& layer : layers) {
        const auto known = std::ranges::find(stages, layer.stage, &StageRow::stage);
        StageRow& row = known == stages.end() ? stages.emplace_back(StageRow{.stage = layer.stage}) : *known;
        ++row.layers;
        row.shape = layer.shape;
        row.parameters += layer.parameters;
        row.multiplications += layer.multiplications;
        row.bytes += layer.bytes;
        (layer.trains ? row.trained : row.frozen) += layer.parameters;
    }
    return stages;
}

}  // namespace jevrin::inline v1
