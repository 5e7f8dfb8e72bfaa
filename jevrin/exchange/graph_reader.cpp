#include "jevrin/exchange/graph_reader.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/operator_forms.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <numeric>

namespace jevrin::inline v1 {

using namespace operators;

const GraphReader::Table& GraphReader::operators() {
    static const Table table = [] {
        Table readers;
        put_weighted(readers);
        put_pooling(readers);
        put_pointwise(readers);
        put_moving(readers);
        put_cutting(readers);
        put_arithmetic(readers);
        put_composed(readers);
        put_products(readers);
        put_resampling(readers);
        put_quantised(readers);
        readers.emplace("If", &GraphReader::read_choice);
        return readers;
    }();
    return table;
}

std::vector<std::string> readable_operators() {
    return GraphReader::operator_names();
}

std::vector<std::string> GraphReader::operator_names() {
    std::vector<std::string> names = foldable_operators();
    for (const auto& [name, read] : operators()) names.push_back(name);
    std::sort(names.begin(), names.end());
    names.erase(std::unique(names.begin(), names.end()), names.end());
    return names;
}

GraphReader::GraphReader(const StoredModel& model, const ReadSettings& settings)
    : model_(model), settings_(settings) {
    if (model.opset < 1)
        throw InputError(fmt::format("it uses operator set {}; export it for set 7 or later", model.opset));
    for (const auto& [name, tensor] : model.weights) values_.emplace(name, &tensor);
}

bool GraphReader::understands(const onnx::NodeProto& node) {
    return is_standard(node) && (operators().count(node.op_type()) != 0 || can_fold(node.op_type()));
}

Network GraphReader::read() {
    const GraphSelection selection = select_nodes(model_, settings_.output, understands);
    ends_at_named_ = selection.named;
    const std::string& output = selection.output;
    read_input(selection);
    for (const std::size_t i : selection.nodes) {
        const GraphNode node(model_.nodes[i]);
        const std::size_t first = builder_.network().nodes.size();
        read_node(node);
        builder_.place_in_module(first, stated_module(node));
    }
    const auto found = values_.find(output);
    if (found == values_.end())
        throw InputError(fmt::format("the output of the model is the value '{}', which no node computes",
                                     printable(output)));
    const auto* view = std::get_if<View>(&found->second);
    if (view == nullptr) throw InputError("the output of the model does not depend on the image");
    if (stated_rank_ > 1 && (view->dims.empty() || view->dims[0] != std::vector<int>{batch_axis}))
        throw InputError(
            "the first dimension of its output is not the batch alone; if the image has another size than "
            "the "
            "model is made for, shapes that are written into it no longer fit");
    // An image at the end lies channels-last like one at the beginning, everything else in its own order.
    std::vector<int> order;
    for (int d = 0; d < static_cast<int>(rank(*view)); ++d)
        if (view->dims[static_cast<std::size_t>(d)] != std::vector<int>{batch_axis}) order.push_back(d);
    if (order == std::vector<int>{1, 2, 3}) order = {2, 3, 1};
    return builder_.finish(builder_.place(*view, order, output));
}

void GraphReader::read_input(const GraphSelection& selection) {
    std::vector<const onnx::ValueInfoProto*> inputs;
    for (const auto& input : model_.inputs)  // older files list their weights as inputs
        if (model_.weights.count(input.name()) == 0) inputs.push_back(&input);
    if (inputs.size() > 1)
        std::erase_if(inputs, [&](const auto* input) { return !selection.values.contains(input->name()); });
    if (inputs.empty()) throw InputError("it has no input");
    if (inputs.size() > 1) throw InputError("it has more than one input; a classifier has one, the image");
    const onnx::ValueInfoProto* image = inputs.front();
    const auto& shape = image->type().tensor_type().shape();
    const int dimensions = shape.dim_size();
    if (dimensions < 1 || dimensions > 8)
        throw InputError(fmt::format("its input has {}; [batch, channels, height, width] is needed",
                                     plural(dimensions, "dimension")));
    const bool batched = dimensions > 1;
    stated_rank_ = dimensions;
    stated_batch_ = batched ? std::max<std::int64_t>(0, shape.dim(0).dim_value()) : 0;
    const auto is_channels = [&](int d) {
        return shape.dim(d).dim_value() == 1 || shape.dim(d).dim_value() == 3;
    };
    const bool is_image = dimensions == 4;
    const bool channels_last = is_image && is_channels(3) && !is_channels(1) &&
                               (shape.dim(1).dim_value() == 0 || shape.dim(1).dim_value() >= 16);
    const int height = channels_last ? 1 : 2;
    if (is_image && shape.dim(height).dim_value() > 0 && shape.dim(height + 1).dim_value() > 0)
        stated_size_ = ImageSize(shape.dim(height).dim_value(), shape.dim(height + 1).dim_value());
    Shape item;
    for (int d = batched ? 1 : 0; d < dimensions; ++d) {
        std::int64_t size = shape.dim(d).dim_value();
        if (is_image && d == (channels_last ? 3 : 1) && size < 1)
            throw InputError(fmt::format(
                "the number of channels of its input '{}' is open; export it with a fixed one, 3 for "
                "colour or 1 for grey",
                printable(image->name())));
        if (is_image && settings_.image_size && (d == height || d == height + 1))
            size = d == height ? settings_.image_size->height : settings_.image_size->width;
        if (size < 1 || size > largest_dimension)
            throw InputError(
                fmt::format("dimension {} of its input '{}' is not stated or out of range; {}", d,
                            printable(image->name()),
                            is_image ? "give the image size to use, or export it with a fixed image size"
                                     : "export it with fixed dimensions"));
        item.push_back(size);
    }
    std::vector<int> axes(item.size());
    std::iota(axes.begin(), axes.end(), 0);
    if (is_image && !channels_last) {
        item = {item[1], item[2], item[0]};
        axes = {2, 0, 1};
    }
    if (batched) axes.insert(axes.begin(), batch_axis);
    builder_.set_input(image->name(), item);
    values_[image->name()] = builder_.view(0, axes);
}

void GraphReader::read_node(const GraphNode& node) {
    bool all_known = true;
    for (int i = 0; i < node.inputs(); ++i) {
        if (!node.has_input(i)) continue;
        if (values_.count(node.input(i)) == 0)
            throw InputError(fmt::format("node '{}' needs the value '{}', which no earlier node computes",
                                         printable(node.name()), printable(node.input(i))));
        all_known = all_known && !is_dynamic(node, i);
    }
    if (node.outputs() < 1) node.fail("has no output");
    require_form(node);
    try {
        if (node.type() == "If") return read_choice(node);
        if (all_known) {
            if (read_constant_for_each(node)) return;
            if (repeats_weights(node)) return (this->*operators().at(node.type()))(node);
            if (!can_fold(node.type())) node.fail("is not supported on constants");
            const auto inputs = known_inputs(node);
            std::vector<Folded> outputs = fold(node, pointers_to(inputs));
            for (std::size_t i = 0; i < outputs.size() && static_cast<int>(i) < node.outputs(); ++i)
                set(node, std::move(outputs[i]), static_cast<int>(i));
            return;
        }
        const auto read = operators().find(node.type());
        if (read == operators().end())
            node.fail("is supported between constants only, and here its input depends on the image");
        (this->*read->second)(node);
    } catch (const InputError& error) {
        // Shapes that clash name the layer already; other messages get the node.
        if (error.place() != ErrorPlace::open) throw;
        node.fail(error.what());
    }
}

// A branch that does not depend on the image: the graph of one of the two stands in place of the node.
void GraphReader::read_choice(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const auto condition = known(value(node, 0));
    if (!condition || condition->values.size() != 1)
        node.fail("chooses by a condition that depends on the image, which is not supported");
    const char* const branch = condition->values[0] != 0.0 ? "then_branch" : "else_branch";
    const onnx::AttributeProto* attribute = node.attribute(branch);
    if (attribute == nullptr) node.fail(fmt::format("has no {}", branch));
    const onnx::GraphProto& graph = attribute->g();
    if (graph.output_size() < node.outputs()) node.fail(fmt::format("its {} gives too few values", branch));
    if (++depth_ > deepest_graph) node.fail("its graphs are nested too deeply");
    for (const onnx::TensorProto& weight : graph.initializer()) {
        inner_weights_.emplace_back(weight);
        values_[weight.name()] = &inner_weights_.back();
    }
    for (const onnx::NodeProto& inner : graph.node()) {
        if (!understands(inner))
            node.fail(fmt::format("its {} uses the operator {}, which is not supported", branch,
                                  printable(inner.op_type())));
        read_node(GraphNode(inner, node.opset()));
    }
    for (int i = 0; i < node.outputs(); ++i) {
        const auto found = values_.find(graph.output(i).name());
        if (found == values_.end())
            node.fail(fmt::format("its {} does not compute '{}'", branch, printable(graph.output(i).name())));
        const GraphValue made = found->second;
        if (!node.output(i).empty()) values_[node.output(i)] = made;
    }
    --depth_;
}

const GraphValue& GraphReader::value(const GraphNode& node, int input) const {
    if (!node.has_input(input)) node.fail(fmt::format("its input {} is missing", input));
    return values_.at(node.input(input));
}

bool GraphReader::is_dynamic(const GraphNode& node, int input) const {
    return node.has_input(input) && std::holds_alternative<View>(value(node, input));
}

const View& GraphReader::dynamic(const GraphNode& node, int input) const {
    const auto* view = std::get_if<View>(&value(node, input));
    if (view == nullptr) node.fail(fmt::format("its input {} does not depend on the image", input));
    return *view;
}

void GraphReader::set(const GraphNode& node, View view, int output) {
    if (output < node.outputs() && !node.output(output).empty())
        values_[node.output(output)] = std::move(view);
}

std::string GraphReader::stated_module(const GraphNode& node) const {
    if (module_path(node.name()).find('.') != std::string::npos) return {};
    for (int i = 0; i < node.inputs(); ++i) {
        if (!node.has_input(i) || model_.weights.count(node.input(i)) == 0) continue;
        const std::string path = module_path(node.input(i));
        if (const std::size_t end = path.rfind('.'); end != std::string::npos && end > 0)
            return path.substr(0, end);
    }
    return {};
}

}  // namespace jevrin::inline v1
