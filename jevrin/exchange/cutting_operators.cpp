// Values that are cut, joined, repeated and padded in model files: read, and written.
#include "jevrin/base/error.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_writer.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct Split;
struct Expand;
struct Tile;

}  // namespace

template <>
void GraphReader::read_as<Concatenate>(const GraphNode& node) {
    node.expect_inputs(1, 1 << 16);
    const View* base = nullptr;
    for (int i = 0; i < node.inputs(); ++i) {
        if (!is_dynamic(node, i)) continue;
        const View& view = dynamic(node, i);
        if (base == nullptr ||
            element_count(builder_.shape(view.node)) > element_count(builder_.shape(base->node)))
            base = &view;
    }
    if (base == nullptr) node.fail("has no input that depends on the image");
    const View shape_of = *base;
    const std::int64_t axis = node.axis(node.integer("axis", 1), rank(shape_of));
    if (holds_batch(shape_of.dims[static_cast<std::size_t>(axis)]))
        node.fail("concatenates along the batch dimension");
    const std::vector<int> order = builder_.order_of(shape_of);
    const auto along = std::find(order.begin(), order.end(), static_cast<int>(axis)) - order.begin();
    std::vector<std::size_t> inputs;
    for (int i = 0; i < node.inputs(); ++i) {
        if (is_dynamic(node, i)) {
            const View& view = dynamic(node, i);
            if (rank(view) != rank(shape_of))
                node.fail("concatenates values with different numbers of dimensions");
            inputs.push_back(builder_.place(view, order, fmt::format("{}:{}", node.name(), i)));
        } else {
            if (std::ssize(weight(node, i).shape) != rank(shape_of))
                node.fail("concatenates values with different numbers of dimensions");
            inputs.push_back(constant_node(node, i, rank(shape_of), order, false));
        }
    }
    if (inputs.size() == 1) return set(node, builder_.placed(shape_of, inputs[0], order));
    set(node, builder_.placed(shape_of, builder_.add(node.name(), Concatenate{along}, inputs), order));
}

// The axis that makes up a dimension, alone.
std::size_t GraphReader::single_axis(const GraphNode& node, View& view, int dim) {
    const auto at = static_cast<std::size_t>(dim);
    if (holds_batch(view.dims[at])) node.fail("operates along the batch dimension");
    if (view.dims[at].size() != 1) {
        view = builder_.with_last(view, {dim}, node.name());
        if (view.dims[at].empty()) return builder_.shape(view.node).size() - 1;
    }
    return static_cast<std::size_t>(view.dims[at][0]);
}

View GraphReader::sliced(const GraphNode& node, const std::string& name, const View& from,
                         const std::vector<SliceRange>& ranges) {
    View view = from;
    std::vector<std::pair<std::size_t, SliceRange>> cuts;
    for (const SliceRange& range : ranges) {
        const auto at = static_cast<std::size_t>(range.axis);
        const std::int64_t size = sizes(from)[at];
        if (range.start == 0 && range.step == 1 && range.count == size) continue;
        if (range.count < 1) node.fail("its result is empty");
        cuts.emplace_back(at, range);
        single_axis(node, view, static_cast<int>(range.axis));
    }
    if (cuts.empty()) return view;
    Slice op;
    for (const std::int64_t size : builder_.shape(view.node)) op.stretches.push_back({0, 1, size});
    for (const auto& [at, range] : cuts) {
        const std::size_t axis = single_axis(node, view, static_cast<int>(at));
        op.stretches[axis] = {range.start, range.step, range.count};
        if (range.count == 1) view.dims[at].clear();
    }
    view.node = builder_.add(name, op, {view.node});
    return view;
}

template <>
void GraphReader::read_as<Slice>(const GraphNode& node) {
    node.expect_inputs(1, 5);
    const View& view = dynamic(node, 0);
    const auto inputs = known_inputs(node);
    set(node, sliced(node, node.name(), view, slice_ranges(node, sizes(view), pointers_to(inputs))));
}

template <>
void GraphReader::read_as<Split>(const GraphNode& node) {
    node.expect_inputs(1, 2);
    const View view = dynamic(node, 0);
    const auto inputs = known_inputs(node);
    const std::int64_t axis = node.axis(node.integer("axis", 0), rank(view));
    if (holds_batch(view.dims[static_cast<std::size_t>(axis)])) node.fail("slices the batch dimension");
    std::int64_t start = 0;
    int output = 0;
    for (const std::int64_t size :
         split_sizes(node, sizes(view)[static_cast<std::size_t>(axis)], pointers_to(inputs))) {
        const std::string name =
            node.outputs() == 1 ? node.name() : fmt::format("{}:{}", node.name(), output);
        set(node, sliced(node, name, view, {{axis, start, 1, size}}), output++);
        start += size;
    }
}

template <>
void GraphReader::read_as<Gather>(const GraphNode& node) {
    node.expect_inputs(2, 2);
    View view = dynamic(node, 0);
    const auto inputs = known_inputs(node);
    if (!inputs[1]) node.fail("its indices depend on the image");
    const Folded& places = *inputs[1];
    const std::int64_t dim = node.axis(node.integer("axis", 0), rank(view));
    const auto at = static_cast<std::size_t>(dim);
    const std::int64_t size = sizes(view)[at];
    Gather op;
    for (std::int64_t place : places.integers()) {
        if (place < 0) place += size;
        if (place < 0 || place >= size) node.fail("its index is out of range");
        op.places.push_back(place);
    }
    const auto count = std::ssize(op.places);
    if (count == 0) node.fail("has no index");
    if (size > 1) {
        op.axis = static_cast<std::int64_t>(single_axis(node, view, static_cast<int>(dim)));
        view.node = builder_.add(node.name(), op, {view.node});
        if (count == 1) view.dims[at].clear();
    } else if (count > 1) {
        node.fail("broadcasts a dimension of 1, which is not supported");
    }
    Shape target = sizes(view);
    target.erase(target.begin() + dim);
    target.insert(target.begin() + dim, places.shape.begin(), places.shape.end());
    set(node, builder_.reshape(view, target, batch_prime, node.name()));
}

// Padded by what lies at the other end.
View GraphReader::wrapped(const GraphNode& node, View view, const std::vector<std::int64_t>& pads) {
    for (int d = 0; d < static_cast<int>(rank(view)); ++d) {
        const std::int64_t before = pads[static_cast<std::size_t>(d)];
        const std::int64_t after = pads[static_cast<std::size_t>(d + rank(view))];
        if (before == 0 && after == 0) continue;
        const std::int64_t size = sizes(view)[static_cast<std::size_t>(d)];
        if (size < 2 || before < 0 || after < 0 || std::max(before, after) > largest_dimension)
            node.fail("its pads are negative or out of range");
        Gather op{static_cast<std::int64_t>(single_axis(node, view, d)), {}};
        for (std::int64_t place = -before; place < size + after; ++place)
            op.places.push_back((place % size + size) % size);
        view.node = builder_.add(node.name(), op, {view.node});
    }
    return view;
}

template <>
void GraphReader::read_as<Padding>(const GraphNode& node) {
    node.expect_inputs(1, 4);
    View view = dynamic(node, 0);
    const auto inputs = known_inputs(node);
    auto pads = integers_of(node, "pads", 1, pointers_to(inputs));
    if (pads && node.has_input(3)) {
        const auto axes = integers_of(node, "axes", 3, pointers_to(inputs));
        std::vector<std::int64_t> wide(static_cast<std::size_t>(2 * rank(view)), 0);
        if (pads->size() != 2 * axes->size()) node.fail("its pads do not match its axes");
        for (std::size_t i = 0; i < axes->size(); ++i) {
            const std::int64_t axis = node.axis((*axes)[i], rank(view));
            wide[static_cast<std::size_t>(axis)] = (*pads)[i];
            wide[static_cast<std::size_t>(axis + rank(view))] = (*pads)[i + axes->size()];
        }
        pads = wide;
    }
    if (!pads || std::ssize(*pads) != 2 * rank(view)) node.fail("its pads do not match its input");
    Padding op;
    const std::string mode = node.text("mode", "constant");
    if (mode == "wrap") return set(node, wrapped(node, view, *pads));
    if (mode != "constant" && mode != "edge" && mode != "reflect")
        node.fail(fmt::format("its mode '{}' is not supported", printable(mode)));
    op.kind = mode == "edge"      ? PaddingKind::edge
              : mode == "reflect" ? PaddingKind::reflect
                                  : PaddingKind::constant;
    op.value = node.number("value", 0.0F);
    if (node.has_input(2)) {
        if (!inputs[2] || inputs[2]->values.size() != 1) node.fail("its value must be a constant number");
        op.value = static_cast<float>(inputs[2]->values[0]);
    }
    const std::vector<int> order = builder_.order_of(view);
    const std::size_t x = builder_.place(view, order, node.name());
    for (const int d : order) {
        for (const std::int64_t pad :
             {(*pads)[static_cast<std::size_t>(d)], (*pads)[static_cast<std::size_t>(d + rank(view))]})
            if (pad < 0 || pad > largest_dimension) node.fail("its pads are negative or out of range");
        op.before.push_back((*pads)[static_cast<std::size_t>(d)]);
        op.after.push_back((*pads)[static_cast<std::size_t>(d + rank(view))]);
    }
    for (int d = 0; d < static_cast<int>(rank(view)); ++d)
        if (holds_batch(view.dims[static_cast<std::size_t>(d)]) &&
            ((*pads)[static_cast<std::size_t>(d)] != 0 ||
             (*pads)[static_cast<std::size_t>(d + rank(view))] != 0))
            node.fail("pads the batch dimension");
    set(node, builder_.placed(view, builder_.add(node.name(), op, {x}), order));
}

template <>
void GraphReader::read_as<Expand>(const GraphNode& node) {
    node.expect_inputs(2, 2);
    const auto inputs = known_inputs(node);
    if (!inputs[1]) node.fail("its shape depends on the image");
    View view = dynamic(node, 0);
    const Shape from = sizes(view);
    Shape stated = inputs[1]->integers();
    // A batch of the size that the model states, of any size here.
    if (stated_batch_ > 0 && stated.size() == view.dims.size())
        for (std::size_t d = 0; d < stated.size(); ++d)
            if (holds_batch(view.dims[d]) && (stated[d] == stated_batch_ || stated[d] == 1))
                stated[d] = from[d];
    const auto target = broadcast_shape(from, stated);
    if (!target)
        node.fail(
            fmt::format("cannot broadcast {} to {}", to_string(builder_.sizes(view, 1)), to_string(stated)));
    view.dims.insert(view.dims.begin(), target->size() - view.dims.size(), std::vector<int>{});
    for (std::size_t d = 0; d < view.dims.size(); ++d)
        if (holds_batch(view.dims[d]) ? sizes(view)[d] != (*target)[d] : (*target)[d] >= batch_prime)
            node.fail("broadcasts along the batch dimension");
    if (sizes(view) == *target) return set(node, view);
    std::vector<int> order = builder_.order_of(view);
    Shape item;
    for (const int d : order) item.push_back((*target)[static_cast<std::size_t>(d)]);
    Tensor ones = new_tensor(node, item);
    ones.fill(1.0F);
    const std::size_t x = builder_.place(view, order, node.name());
    const std::size_t repeated = builder_.add(node.name() + ":ones", Constant{false}, {}, {std::move(ones)});
    set(node,
        builder_.placed(view, builder_.add(node.name(), Arithmetic{ArithmeticKind::multiply}, {x, repeated}),
                        order));
}

template <>
void GraphReader::read_as<Tile>(const GraphNode& node) {
    node.expect_inputs(2, 2);
    const auto inputs = known_inputs(node);
    if (!inputs[1]) node.fail("its repeats depend on the image");
    View view = dynamic(node, 0);
    const auto repeats = inputs[1]->integers();
    if (std::ssize(repeats) != rank(view)) node.fail("its repeats do not match the number of dimensions");
    const std::vector<int> order = builder_.order_of(view);
    std::size_t x = builder_.place(view, order, node.name());
    for (std::size_t d = 0; d < repeats.size(); ++d)
        if (holds_batch(view.dims[d]) && repeats[d] != 1) node.fail("repeats the batch dimension");
    for (std::size_t axis = 0; axis < order.size(); ++axis) {
        const std::int64_t times = repeats[static_cast<std::size_t>(order[axis])];
        const std::int64_t size = builder_.shape(x)[axis];
        if (times < 1 || times * size > largest_dimension) node.fail("its repeats are out of range");
        if (times == 1) continue;
        Gather op{static_cast<std::int64_t>(axis), {}};
        for (std::int64_t i = 0; i < times * size; ++i) op.places.push_back(i % size);
        x = builder_.add(fmt::format("{}:{}", node.name(), axis), op, {x});
    }
    set(node, builder_.placed(view, x, order));
}

void GraphReader::put_cutting(Table& table) {
    table.insert({
        {"Concat", &GraphReader::read_as<Concatenate>},
        {"Expand", &GraphReader::read_as<Expand>},
        {"Gather", &GraphReader::read_as<Gather>},
        {"Pad", &GraphReader::read_as<Padding>},
        {"Slice", &GraphReader::read_as<Slice>},
        {"Split", &GraphReader::read_as<Split>},
        {"Tile", &GraphReader::read_as<Tile>},
    });
}

Layout ModelWriter::common_layout(std::size_t i) const {
    if (shapes_[i].size() != 3) return Layout::plain;
    for (const std::size_t input : network_.nodes[i].inputs)
        if (is_first(input)) return Layout::channels_first;
    return Layout::plain;
}

template <>
void ModelWriter::write(std::size_t i, const Concatenate& op) {
    const Layout layout = common_layout(i);
    layouts_[i] = layout;
    std::vector<std::string> inputs;
    for (const std::size_t input : network_.nodes[i].inputs) inputs.push_back(as(input, layout));
    set_int(add("Concat", name(i), inputs), "axis", file_axis(i, op.axis, layout));
}

template <>
void ModelWriter::write(std::size_t i, const Slice& op) {
    const std::size_t input = network_.nodes[i].inputs[0];
    layouts_[i] = common_layout(i);
    std::vector<std::int64_t> starts;
    std::vector<std::int64_t> ends;
    std::vector<std::int64_t> axes;
    std::vector<std::int64_t> steps;
    for (std::size_t d = 0; d < op.stretches.size(); ++d) {
        const Stretch& s = op.stretches[d];
        if (s.start == 0 && s.step == 1 && s.count == shapes_[input][d]) continue;
        starts.push_back(s.start);
        const std::int64_t end = s.start + s.count * s.step;
        ends.push_back(end < 0 ? std::numeric_limits<std::int64_t>::min() : end);
        axes.push_back(file_axis(input, static_cast<std::int64_t>(d), layouts_[i]));
        steps.push_back(s.step);
    }
    onnx::NodeProto& proto = add("Slice", name(i), {as(input, layouts_[i])});
    const std::pair<const char*, const std::vector<std::int64_t>*> lists[] = {
        {"starts", &starts}, {"ends", &ends}, {"axes", &axes}, {"steps", &steps}};
    for (const auto& [role, list] : lists) proto.add_input(add_integers(name(i) + ":" + role, *list));
}

template <>
void ModelWriter::write(std::size_t i, const Padding& op) {
    const std::size_t input = network_.nodes[i].inputs[0];
    layouts_[i] = common_layout(i);
    const std::size_t rank = shapes_[i].size() + 1;
    std::vector<std::int64_t> pads(2 * rank, 0);
    for (std::size_t d = 0; d < op.before.size(); ++d) {
        const auto at = static_cast<std::size_t>(file_axis(input, static_cast<std::int64_t>(d), layouts_[i]));
        pads[at] = op.before[d];
        pads[at + rank] = op.after[d];
    }
    const std::string from = as(input, layouts_[i]);
    const bool constant = op.kind == PaddingKind::constant;
    const std::string value = constant ? add_number(i, "value", op.value) : "";
    onnx::NodeProto& proto = add("Pad", name(i), {from, add_integers(name(i) + ":pads", pads)});
    if (constant) proto.add_input(value);
    onnx::AttributeProto& mode = *proto.add_attribute();
    mode.set_name("mode");
    mode.set_type(onnx::AttributeProto::STRING);
    mode.set_s(constant ? "constant" : op.kind == PaddingKind::edge ? "edge" : "reflect");
}

template <>
void ModelWriter::write(std::size_t i, const Gather& op) {
    const std::size_t input = network_.nodes[i].inputs[0];
    layouts_[i] = common_layout(i);
    onnx::NodeProto& proto = add("Gather", name(i), {as(input, layouts_[i])});
    proto.add_input(add_integers(name(i) + ":places", op.places));
    set_int(proto, "axis", file_axis(input, op.axis, layouts_[i]));
}

void ModelWriter::put_cutting(Table& table) {
    put<Concatenate, Slice, Padding, Gather>(table);
}

}  // namespace jevrin::inline v1
