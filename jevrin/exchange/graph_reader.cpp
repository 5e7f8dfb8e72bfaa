#include "jevrin/exchange/graph_reader.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/operator_forms.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// All constants that are computed while reading take no more than this many elements together.
constexpr std::int64_t most_folded = 1 << 26;
constexpr int deepest_graph = 16;
// A mask has two values, one of them 0, and is no weight.
bool is_mask(const Folded& constant) {
    const auto [least, most] = std::minmax_element(constant.values.begin(), constant.values.end());
    return (*least == 0.0 || *most == 0.0) &&
           std::ranges::all_of(constant.values, [&](double v) { return v == *least || v == *most; });
}

// The name of the weights that a constant is, when training may change them; empty otherwise.
std::string trained_weight(const Folded& constant) {
    return constant.origin == Origin::weight && !is_mask(constant) ? constant.weight : std::string();
}

}  // namespace

const GraphReader::Table& GraphReader::operators() {
    static const Table table = [] {
        Table readers;
        put_weighted(readers);
        put_pooling(readers);
        put_pointwise(readers);
        put_moving(readers);
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
            std::vector<const Folded*> pointers;
            for (const auto& input : inputs) pointers.push_back(input.get());
            std::vector<Folded> outputs = fold(node, pointers);
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

// A table of weights of which a node takes some more than once, such as biases by relative position: its
// input becomes a value, so that every number of the table trains.
bool GraphReader::repeats_weights(const GraphNode& node) {
    if (node.type() != "Gather" || node.inputs() != 2) return false;
    const auto inputs = known_inputs(node);
    if (!inputs[0] || !inputs[1] || trained_weight(*inputs[0]).empty() || inputs[0]->shape.empty())
        return false;
    const std::set<double> places(inputs[1]->values.begin(), inputs[1]->values.end());
    if (places.size() == inputs[1]->values.size()) return false;
    values_[node.input(0)] = constant_view(node, node.input(0), *inputs[0]);
    return true;
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

// A constant that is repeated for each image of the batch, such as the class token of a transformer: one item
// in our network.
bool GraphReader::read_constant_for_each(const GraphNode& node) {
    const bool repeats = node.type() == "Expand" || node.type() == "Tile";
    if (!repeats && node.type() != "ConstantOfShape") return false;
    const auto inputs = known_inputs(node);
    const std::size_t list = repeats ? 1 : 0;
    if (inputs.size() <= list || !inputs[list]) return false;
    Folded once = *inputs[list];
    const auto batch = std::find(once.values.begin(), once.values.end(), static_cast<double>(batch_prime));
    if (batch == once.values.end()) return false;
    *batch = 1.0;
    std::vector<const Folded*> pointers;
    for (const auto& input : inputs) pointers.push_back(input.get());
    pointers[list] = &once;
    const Folded item = fold(node, pointers).at(0);
    const std::ptrdiff_t dim =
        std::ssize(item.shape) - std::ssize(once.values) + (batch - once.values.begin());
    if (dim < 0 || item.shape[static_cast<std::size_t>(dim)] != 1)
        node.fail("broadcasts along the batch dimension");
    // Weights, unless more was repeated than the batch.
    const bool repeated = repeats && item.values.size() != inputs[0]->values.size();
    const std::string weight = repeats && !repeated ? trained_weight(*inputs[0]) : std::string();
    Shape shape = item.shape;
    shape.erase(shape.begin() + dim);
    Tensor tensor(shape);
    for (std::size_t i = 0; i < item.values.size(); ++i)
        tensor.values()[i] = static_cast<float>(item.values[i]);
    std::vector<int> axes(shape.size());
    std::iota(axes.begin(), axes.end(), 0);
    axes.insert(axes.begin() + dim, batch_axis);
    if (const auto shared = shared_.find(weight); shared != shared_.end()) {
        View again =
            shared->second;  // as stored; what is repeated has the batch in one of its dimensions of 1
        const auto rank = std::max(again.dims.size(), item.shape.size());
        again.dims.insert(again.dims.begin(), rank - again.dims.size(), std::vector<int>{});
        again.dims[static_cast<std::size_t>(dim)] = {batch_axis};
        set(node, again);
        return true;
    }
    const bool trained = !weight.empty();
    const bool stored = !trained && repeats && inputs[0]->origin != Origin::none;
    const std::size_t made =
        builder_.add(trained ? weight : node.name(), Constant{trained, stored}, {}, {std::move(tensor)});
    const View view = builder_.view(made, axes);
    if (trained) {
        View unbatched = view;
        unbatched.dims[static_cast<std::size_t>(dim)].clear();
        shared_.emplace(weight, std::move(unbatched));
    }
    set(node, view);
    return true;
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

std::shared_ptr<const Folded> GraphReader::known(const GraphValue& value) const {
    if (const auto* folded = std::get_if<std::shared_ptr<const Folded>>(&value)) return *folded;
    const auto* stored = std::get_if<const StoredTensor*>(&value);
    if (stored == nullptr) return nullptr;
    auto folded = std::make_shared<Folded>();
    folded->shape = (*stored)->shape();
    folded->whole = (*stored)->whole();
    folded->element_type = (*stored)->element_type();
    if (!folded->whole && (*stored)->size() > 1) {
        folded->origin = Origin::weight;
        folded->weight = (*stored)->name();
    }
    folded->values.resize(static_cast<std::size_t>((*stored)->size()));
    (*stored)->read(0, std::span<double>(folded->values));
    return folded;
}

std::vector<std::shared_ptr<const Folded>> GraphReader::known_inputs(const GraphNode& node) const {
    std::vector<std::shared_ptr<const Folded>> inputs;
    for (int i = 0; i < node.inputs(); ++i)
        inputs.push_back(node.has_input(i) ? known(value(node, i)) : nullptr);
    return inputs;
}

void GraphReader::set(const GraphNode& node, View view, int output) {
    if (output < node.outputs() && !node.output(output).empty())
        values_[node.output(output)] = std::move(view);
}

void GraphReader::set(const GraphNode& node, Folded folded, int output) {
    folded_elements_ += std::ssize(folded.values);
    if (folded_elements_ > most_folded)
        node.fail("computes constants that are too large in total; export the model with constant folding");
    if (output < node.outputs() && !node.output(output).empty())
        values_[node.output(output)] = std::make_shared<const Folded>(std::move(folded));
}

GraphReader::Weight GraphReader::weight(const GraphNode& node, int input) const {
    const GraphValue& from = value(node, input);
    if (const auto* stored = std::get_if<const StoredTensor*>(&from)) {
        const StoredTensor* tensor = *stored;
        if (tensor->size() == 0)
            node.fail(fmt::format("its weight '{}' is empty", printable(tensor->name())));
        return {tensor->shape(),
                [tensor](std::int64_t begin, std::span<float> values) { tensor->read(begin, values); }};
    }
    const auto folded = known(from);
    if (!folded)
        node.fail(fmt::format("its weight '{}' is not stored in the file", printable(node.input(input))));
    if (folded->values.empty())
        node.fail(fmt::format("its weight '{}' is empty", printable(node.input(input))));
    for (const double v : folded->values)
        if (!std::isfinite(v))
            node.fail(
                fmt::format("its weight '{}' contains NaN or infinite values", printable(node.input(input))));
    return {folded->shape, [folded](std::int64_t begin, std::span<float> values) {
                for (std::size_t i = 0; i < values.size(); ++i)
                    values[i] = static_cast<float>(folded->values[static_cast<std::size_t>(begin) + i]);
            }};
}

std::vector<std::string> GraphReader::weight_names(const GraphNode& node,
                                                   std::initializer_list<int> inputs) const {
    std::vector<std::string> names;
    for (const int input : inputs) {
        std::string& name = names.emplace_back();
        if (!node.has_input(input)) continue;
        const GraphValue& from = value(node, input);
        if (const auto* stored = std::get_if<const StoredTensor*>(&from)) name = (*stored)->name();
        if (const auto* folded = std::get_if<std::shared_ptr<const Folded>>(&from))
            name = trained_weight(**folded);
    }
    return names;
}

Tensor GraphReader::vector_weight(const GraphNode& node, int input, std::int64_t size) const {
    const Weight from = weight(node, input);
    if (from.shape != Shape{size})
        node.fail(fmt::format("its weight '{}' is {} and {} numbers are needed", printable(node.input(input)),
                              to_string(from.shape), size));
    Tensor tensor(from.shape);
    from.read(0, tensor.values());
    return tensor;
}

Tensor GraphReader::transposed_weight(const Weight& from, const Shape& shape) const {
    const std::int64_t rows = shape[0];
    const std::int64_t inner = shape[1];
    const std::int64_t taps = shape[2];
    const std::int64_t row = inner * taps;
    Tensor result({taps, inner, rows});
    // Some rows at a time, so that the file's order never lies in memory as a whole.
    const std::int64_t some = std::clamp<std::int64_t>((std::int64_t{1} << 18) / row, 1, rows);
    std::vector<float> block(static_cast<std::size_t>(some * row));
    for (std::int64_t begin = 0; begin < rows; begin += some) {
        const std::int64_t count = std::min(some, rows - begin);
        from.read(begin * row, std::span(block).first(static_cast<std::size_t>(count * row)));
        for (std::int64_t t = 0; t < taps; ++t)
            for (std::int64_t i = 0; i < inner; ++i) {
                float* to = result.data() + (t * inner + i) * rows + begin;
                const float* source = block.data() + i * taps + t;
                for (std::int64_t r = 0; r < count; ++r) to[r] = source[r * row];
            }
    }
    return result;
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

std::size_t GraphReader::constant_node(const GraphNode& node, int input, std::int64_t rank,
                                       const std::vector<int>& order, bool trim) {
    const std::shared_ptr<const Folded> from = known(value(node, input));
    if (!from) node.fail(fmt::format("its input {} depends on the image", input));
    return constant_node(node, node.input(input), *from, rank, order, trim);
}

std::size_t GraphReader::constant_node(const GraphNode& node, const std::string& name, const Folded& constant,
                                       std::int64_t rank, const std::vector<int>& order, bool trim) {
    if (constant.values.empty()) node.fail(fmt::format("its constant '{}' is empty", printable(name)));
    for (const double v : constant.values)
        if (!std::isfinite(v))
            node.fail(fmt::format("its weight '{}' contains NaN or infinite values", printable(name)));
    const auto count = std::ssize(constant.values);
    if (count == 1 && trim) return fixed_number(name, static_cast<float>(constant.values[0]));
    if (std::ssize(constant.shape) > rank)
        node.fail(fmt::format("combines a value of {} with the constant {}", plural(rank, "dimension"),
                              to_string(constant.shape)));
    const auto lead = static_cast<std::size_t>(rank) - constant.shape.size();
    const std::string weight = trained_weight(constant);
    if (const auto shared = shared_.find(weight);
        shared != shared_.end() && builder_.sizes(shared->second, 1) == constant.shape) {
        View again = shared->second;
        again.dims.insert(again.dims.begin(), lead, std::vector<int>{});
        return builder_.place(again, order, name);
    }
    Shape wide(lead, 1);
    wide.insert(wide.end(), constant.shape.begin(), constant.shape.end());
    Shape item;
    std::int64_t covered = 1;
    for (const int dim : order) {
        item.push_back(wide[static_cast<std::size_t>(dim)]);
        covered *= item.back();
    }
    if (covered != count)
        node.fail(
            fmt::format("its constant {} differs between the images of a batch", to_string(constant.shape)));
    // Elements of the constant to move along each dimension.
    std::vector<std::int64_t> strides(wide.size(), 1);
    for (std::size_t d = wide.size(); d-- > 1;) strides[d - 1] = strides[d] * wide[d];
    std::vector<float> moved(constant.values.size());
    Shape place(item.size(), 0);
    for (float& value : moved) {
        std::int64_t at = 0;
        for (std::size_t d = 0; d < item.size(); ++d)
            at += place[d] * strides[static_cast<std::size_t>(order[d])];
        value = static_cast<float>(constant.values[static_cast<std::size_t>(at)]);
        for (std::size_t d = item.size(); d-- > 0;) {
            if (++place[d] < item[d]) break;
            place[d] = 0;
        }
    }
    std::size_t trimmed = 0;
    while (trim && item.size() > 1 && item.front() == 1) {
        item.erase(item.begin());
        ++trimmed;
    }
    const bool trained = !weight.empty();
    const bool stored = !trained && constant.origin != Origin::none;
    const std::size_t made =
        builder_.add(trained ? weight : name, Constant{trained, stored}, {}, {Tensor(item, moved)});
    if (trained) {
        View view{.node = made,
                  .dims = std::vector<std::vector<int>>(constant.shape.size()),
                  .transpose_name = {},
                  .reshape_name = {}};
        for (std::size_t axis = trimmed; axis < order.size(); ++axis)
            if (item[axis - trimmed] > 1)
                view.dims[static_cast<std::size_t>(order[axis]) - lead] = {static_cast<int>(axis - trimmed)};
        shared_.emplace(weight, std::move(view));
    }
    return made;
}

Tensor GraphReader::new_tensor(const GraphNode& node, const Shape& shape) {
    for (const std::int64_t size : shape) {
        if (size < 1 || size > most_folded)
            node.fail(fmt::format("needs a constant of {}, which is too large", to_string(shape)));
    }
    std::int64_t elements = 1;
    for (const std::int64_t size : shape) {
        elements *= size;
        if (elements > most_folded - folded_elements_)
            node.fail(
                "computes constants that are too large in total; export the model with constant folding");
    }
    folded_elements_ += elements;
    return Tensor(shape);
}

std::size_t GraphReader::fixed_number(const std::string& name, float value) {
    return builder_.add(name, Constant{false}, {}, {Tensor({1}, {&value, 1})});
}

}  // namespace jevrin::inline v1
