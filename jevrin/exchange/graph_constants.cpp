// Constants and weights of a stored graph: found, folded, and made nodes of the network.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_reader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// All constants that are computed while reading take no more than this many elements together.
constexpr std::int64_t most_folded = 1 << 26;

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
    std::vector<const Folded*> pointers = pointers_to(inputs);
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

// A constant as one item of a value, by its dimensions; weights stay one node that trains.
View GraphReader::constant_view(const GraphNode& node, const std::string& name, const Folded& constant) {
    std::vector<int> order(constant.shape.size());
    std::iota(order.begin(), order.end(), 0);
    return builder_.view(constant_node(node, name, constant, std::ssize(constant.shape), order, false),
                         order);
}

}  // namespace jevrin::inline v1
