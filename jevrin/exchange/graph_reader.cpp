#include "jevrin/exchange/graph_reader.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

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
constexpr std::size_t most_nodes = 50'000;

bool is_standard(const std::string& domain) {
    return domain.empty() || domain == "ai.onnx";
}

}  // namespace

const GraphReader::Table& GraphReader::operators() {
    static const Table table = [] {
        Table readers;
        put_weighted(readers);
        put_pooling(readers);
        put_pointwise(readers);
        put_moving(readers);
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
    if (model.opset < 7 || model.opset > 17)
        throw InputError(fmt::format(
            "it uses operator set {}; 7 to 17 are supported: export it for one of them", model.opset));
    for (const auto& [name, tensor] : model.weights) values_.emplace(name, &tensor);
}

Network GraphReader::read() {
    const std::string output = output_value();
    find_needed(output);
    check_operators();
    read_input();
    for (const std::size_t i : needed_) read_node(GraphNode(model_.nodes[i], model_.opset));
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

std::string GraphReader::output_value() const {
    if (!settings_.output.empty()) {
        std::vector<std::string> names;
        for (const auto& node : model_.nodes) {
            if (node.output_size() == 0) continue;
            const std::string& name = GraphNode(node, model_.opset).name();
            if (name == settings_.output || node.output(0) == settings_.output) return node.output(0);
            names.push_back(name);
        }
        throw InputError(fmt::format("it has no node called '{}'{}", printable(settings_.output),
                                     did_you_mean(settings_.output, names)));
    }
    if (model_.outputs.size() != 1) {
        std::vector<std::string> names;
        for (const auto& output : model_.outputs) names.push_back(printable(output.name()));
        throw InputError(fmt::format("it has {} outputs ({}); a classifier has one", names.size(),
                                     fmt::join(names, ", ")));
    }
    return model_.outputs.front().name();
}

// Only what the output depends on is read: what stands beside it may be anything.
void GraphReader::find_needed(const std::string& output) {
    std::map<std::string, std::size_t> makers;
    for (std::size_t i = 0; i < model_.nodes.size(); ++i)
        for (const std::string& made : model_.nodes[i].output()) {
            if (made.empty()) continue;
            if (!makers.emplace(made, i).second || model_.weights.count(made) != 0)
                GraphNode(model_.nodes[i], model_.opset)
                    .fail(fmt::format("the value '{}' is computed twice", printable(made)));
        }
    std::vector<std::string> wanted = {output};
    while (!wanted.empty()) {
        const auto maker = makers.find(wanted.back());
        wanted.pop_back();
        if (maker == makers.end() || !needed_.insert(maker->second).second) continue;
        for (const std::string& input : model_.nodes[maker->second].input()) wanted.push_back(input);
    }
}

void GraphReader::check_operators() const {
    if (needed_.size() > most_nodes)
        throw InputError(fmt::format("it has {} nodes; the limit is {}", needed_.size(), most_nodes));
    const auto weighted = std::count_if(needed_.begin(), needed_.end(), [&](std::size_t i) {
        const std::string& type = model_.nodes[i].op_type();
        return type == "Conv" || type == "Gemm" || type == "MatMul";
    });
    if (weighted > most_weighted_layers)
        throw InputError(fmt::format("it has {} convolutions and dense layers; the limit is {}", weighted,
                                     most_weighted_layers));
    std::vector<std::string> unsupported;
    for (const std::size_t i : needed_) {
        const onnx::NodeProto& node = model_.nodes[i];
        const bool understood = is_standard(node.domain()) &&
                                (operators().count(node.op_type()) != 0 || can_fold(node.op_type()));
        if (understood) continue;
        unsupported.push_back(
            fmt::format("{}{} at '{}'", is_standard(node.domain()) ? "" : printable(node.domain()) + ".",
                        printable(node.op_type()), printable(GraphNode(node, model_.opset).name())));
    }
    if (!unsupported.empty())
        throw InputError(fmt::format("{} of its nodes use operators that are not supported: {}",
                                     unsupported.size(), fmt::join(unsupported, ", ")));
}

void GraphReader::read_input() {
    const onnx::ValueInfoProto* image = nullptr;
    for (const auto& input : model_.inputs) {
        if (model_.weights.count(input.name()) != 0) continue;  // older files list their weights as inputs
        if (image != nullptr) throw InputError("it has more than one input; a classifier has one, the image");
        image = &input;
    }
    if (image == nullptr) throw InputError("it has no input");
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
    Shape item;
    for (int d = batched ? 1 : 0; d < dimensions; ++d) {
        std::int64_t size = shape.dim(d).dim_value();
        if (is_image && settings_.image_size && (d == height || d == height + 1))
            size = *settings_.image_size;
        if (size < 1 || size > largest_dimension)
            throw InputError(
                fmt::format("dimension {} of its input '{}' is not stated or out of range; export it with a "
                            "fixed image size",
                            d, printable(image->name())));
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
    try {
        if (all_known) {
            if (read_constant_for_each(node)) return;
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
    const bool trained = repeats && std::holds_alternative<const StoredTensor*>(value(node, 0));
    Shape shape = item.shape;
    shape.erase(shape.begin() + dim);
    Tensor tensor(shape);
    for (std::size_t i = 0; i < item.values.size(); ++i)
        tensor.values()[i] = static_cast<float>(item.values[i]);
    std::vector<int> axes(shape.size());
    std::iota(axes.begin(), axes.end(), 0);
    axes.insert(axes.begin() + dim, batch_axis);
    const std::size_t made =
        builder_.add(trained ? node.input(0) : node.name(), Constant{trained}, {}, {std::move(tensor)});
    set(node, builder_.view(made, axes));
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

std::size_t GraphReader::constant_node(const GraphNode& node, int input, std::int64_t rank,
                                       const std::vector<int>& order, bool trim) {
    const Weight from = weight(node, input);
    // What the file stores may be trained; what it computes from numbers is part of the method.
    const bool trained = std::holds_alternative<const StoredTensor*>(value(node, input));
    const std::string& name = node.input(input);
    const std::int64_t count = element_count(from.shape);
    std::vector<float> values(static_cast<std::size_t>(count));
    from.read(0, values);
    if (count == 1 && trim) return builder_.add(name, Constant{false}, {}, {Tensor({1}, values)});
    if (std::ssize(from.shape) > rank)
        node.fail(fmt::format("combines a value of {} with the constant {}", plural(rank, "dimension"),
                              to_string(from.shape)));
    Shape wide(static_cast<std::size_t>(rank) - from.shape.size(), 1);
    wide.insert(wide.end(), from.shape.begin(), from.shape.end());
    Shape item;
    std::int64_t covered = 1;
    for (const int dim : order) {
        item.push_back(wide[static_cast<std::size_t>(dim)]);
        covered *= item.back();
    }
    if (covered != count)
        node.fail(
            fmt::format("its constant {} differs between the images of a batch", to_string(from.shape)));
    // Elements of the constant to move along each dimension.
    std::vector<std::int64_t> strides(wide.size(), 1);
    for (std::size_t d = wide.size(); d-- > 1;) strides[d - 1] = strides[d] * wide[d];
    std::vector<float> moved(values.size());
    Shape place(item.size(), 0);
    for (float& value : moved) {
        std::int64_t at = 0;
        for (std::size_t d = 0; d < item.size(); ++d)
            at += place[d] * strides[static_cast<std::size_t>(order[d])];
        value = values[static_cast<std::size_t>(at)];
        for (std::size_t d = item.size(); d-- > 0;) {
            if (++place[d] < item[d]) break;
            place[d] = 0;
        }
    }
    while (trim && item.size() > 1 && item.front() == 1) item.erase(item.begin());
    return builder_.add(name, Constant{trained && count > 1}, {}, {Tensor(item, moved)});
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
