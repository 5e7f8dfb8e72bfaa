// Arithmetic of two values, or of a value and a constant, in model files: read, and written.
#include "jevrin/base/error.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_writer.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {

using namespace operators;

View GraphReader::with_number(const std::string& name, ArithmeticKind kind, const View& view, float number) {
    View result = view;
    result.node = builder_.add(name, Arithmetic{kind}, {view.node, fixed_number(name + ":number", number)});
    return result;
}

View GraphReader::joined_views(const std::string& name, ArithmeticKind kind, const View& a, const View& b) {
    View left = a;
    View right = b;
    const std::size_t dimensions = std::max(a.dims.size(), b.dims.size());
    for (View* view : {&left, &right})
        view->dims.insert(view->dims.begin(), dimensions - view->dims.size(), std::vector<int>{});
    // What is made of constants alone has no batch, and one element where the other has its batch.
    const auto has_batch = [&](const View& view) { return std::ranges::any_of(view.dims, holds_batch); };
    const bool one_is_constant = has_batch(left) != has_batch(right);
    for (std::size_t d = 0; d < dimensions; ++d)
        if (holds_batch(left.dims[d]) != holds_batch(right.dims[d]) &&
            !(one_is_constant && (left.dims[d].empty() || right.dims[d].empty())))
            throw InputError("its operands have different batch dimensions");
    const Shape left_sizes = sizes(left);
    const Shape right_sizes = sizes(right);
    if (!broadcast_shape(left_sizes, right_sizes))
        throw InputError(fmt::format("its operands {} and {} cannot be broadcast together",
                                     to_string(builder_.sizes(left, 1)),
                                     to_string(builder_.sizes(right, 1))));
    // The same axes of nodes of the same shape: nothing to arrange, whatever the order.
    if (left.dims == right.dims && builder_.shape(left.node) == builder_.shape(right.node)) {
        left.node = builder_.add(name, Arithmetic{kind}, {left.node, right.node});
        return left;
    }
    const bool left_leads = one_is_constant ? has_batch(left)
                                            : element_count(builder_.shape(left.node)) >=
                                                  element_count(builder_.shape(right.node));
    std::vector<int> order = builder_.order_of(left_leads ? left : right);
    // A dimension that is only the batch in one operand may be more in the other.
    for (int d = 0; d < static_cast<int>(dimensions); ++d) {
        const auto at = static_cast<std::size_t>(d);
        const auto holds_only_batch = [&](const View& view) {
            return view.dims[at] == std::vector<int>{batch_axis} ||
                   (one_is_constant && view.dims[at].empty());
        };
        const bool only_batch = holds_only_batch(left) && holds_only_batch(right);
        const bool listed = std::find(order.begin(), order.end(), d) != order.end();
        if (!only_batch && !listed) throw InputError("its operands have layouts that cannot be combined");
    }
    const std::size_t x = builder_.place(left, order, name + ":left");
    const std::size_t y = builder_.place(right, order, name + ":right");
    const View& shape_of = left_leads ? left : right;
    return builder_.placed(shape_of, builder_.add(name, Arithmetic{kind}, {x, y}), order);
}

View GraphReader::joined(const GraphNode& node, ArithmeticKind kind, int left, int right) {
    if (is_dynamic(node, left) && is_dynamic(node, right))
        return joined_views(node.name(), kind, dynamic(node, left), dynamic(node, right));
    const bool dynamic_first = is_dynamic(node, left);
    const int constant = dynamic_first ? right : left;
    const auto known_one = known(value(node, constant));
    return combined(node, node.name(), node.input(constant), kind,
                    dynamic(node, dynamic_first ? left : right), *known_one, dynamic_first);
}

View GraphReader::with_constant(const GraphNode& node, const std::string& name, ArithmeticKind kind,
                                const View& view, const Folded& constant) {
    return combined(node, name, name + ":constant", kind, view, constant, true);
}

// The dimension of a value that is the last axis of its node, when a constant has elements along it alone; or
// -1.
int GraphReader::last_axis_of(const View& view, const Shape& constant) const {
    const auto axis = static_cast<int>(builder_.shape(view.node).size()) - 1;
    const auto lead = std::ssize(view.dims) - std::ssize(constant);
    int dimension = -1;
    for (std::ptrdiff_t d = 0; d < std::ssize(constant); ++d) {
        if (constant[static_cast<std::size_t>(d)] == 1) continue;
        if (dimension >= 0 || view.dims[static_cast<std::size_t>(d + lead)] != std::vector<int>{axis})
            return -1;
        dimension = static_cast<int>(d + lead);
    }
    const bool fits = dimension >= 0 && builder_.shape(view.node).back() ==
                                            constant[static_cast<std::size_t>(dimension - lead)];
    return fits ? dimension : -1;
}

View GraphReader::combined(const GraphNode& node, const std::string& name, const std::string& constant_name,
                           ArithmeticKind kind, View view, const Folded& stated, bool view_first) {
    const std::optional<Folded> resampled = resampled_positions(stated, builder_.sizes(view, 1));
    const Folded& constant = resampled ? *resampled : stated;
    const Shape& shape = constant.shape;
    if (shape.size() > view.dims.size())
        view.dims.insert(view.dims.begin(), shape.size() - view.dims.size(), std::vector<int>{});
    std::size_t x = view.node;
    std::vector<int> order;
    const bool number = element_count(shape) == 1;
    // Numbers along the last axis of the node can stay where they are, whatever the order of the others.
    const int last = last_axis_of(view, shape);
    if (last >= 0) {
        order = {last};
    } else if (!number) {
        order = builder_.order_of(view);
        x = builder_.place(view, order, name);
    }
    const std::size_t c = constant_node(node, constant_name, constant, rank(view), order, true);
    std::vector<std::size_t> inputs = {x, c};
    if (!view_first) std::swap(inputs[0], inputs[1]);
    const std::size_t made = builder_.add(name, Arithmetic{kind}, inputs);
    if (!number && last < 0) return builder_.placed(view, made, order);
    view.node = made;
    return view;
}

template <>
void GraphReader::read_as<Arithmetic>(const GraphNode& node) {
    const std::string& type = node.type();
    const bool many = type == "Sum" || type == "Mean" || type == "Max" || type == "Min";
    node.expect_inputs(many ? 1 : 2, many ? 1 << 16 : 2);
    ArithmeticKind kind = ArithmeticKind::add;
    if (type == "Sub") kind = ArithmeticKind::subtract;
    if (type == "Mul") kind = ArithmeticKind::multiply;
    if (type == "Div") kind = ArithmeticKind::divide;
    if (type == "Pow") kind = ArithmeticKind::power;
    if (type == "Max") kind = ArithmeticKind::maximum;
    if (type == "Min") kind = ArithmeticKind::minimum;
    if (node.inputs() == 1) return set(node, dynamic(node, 0));
    if (node.inputs() == 2 && type != "Mean") return set(node, joined(node, kind, 0, 1));
    View sum;
    for (int i = 0; i < node.inputs(); ++i) {
        if (!is_dynamic(node, i))
            node.fail("has more than two inputs, one of them a constant, which is not supported");
        const bool last = i + 1 == node.inputs() && type != "Mean";
        const std::string name = last ? node.name() : fmt::format("{}:{}", node.name(), i);
        sum = i == 0 ? dynamic(node, 0) : joined_views(name, kind, sum, dynamic(node, i));
    }
    if (type == "Mean") {
        const float share = 1.0F / static_cast<float>(node.inputs());
        sum = with_number(node.name(), ArithmeticKind::multiply, sum, share);
    }
    set(node, sum);
}

void GraphReader::put_arithmetic(Table& table) {
    table.insert({
        {"Add", &GraphReader::read_as<Arithmetic>},
        {"Div", &GraphReader::read_as<Arithmetic>},
        {"Max", &GraphReader::read_as<Arithmetic>},
        {"Mean", &GraphReader::read_as<Arithmetic>},
        {"Min", &GraphReader::read_as<Arithmetic>},
        {"Mul", &GraphReader::read_as<Arithmetic>},
        {"Pow", &GraphReader::read_as<Arithmetic>},
        {"Sub", &GraphReader::read_as<Arithmetic>},
        {"Sum", &GraphReader::read_as<Arithmetic>},
    });
}

template <>
void ModelWriter::write(std::size_t i, const Arithmetic& op) {
    static const std::map<ArithmeticKind, const char*> types = {
        {ArithmeticKind::add, "Add"},      {ArithmeticKind::subtract, "Sub"},
        {ArithmeticKind::multiply, "Mul"}, {ArithmeticKind::divide, "Div"},
        {ArithmeticKind::power, "Pow"},    {ArithmeticKind::maximum, "Max"},
        {ArithmeticKind::minimum, "Min"},
    };
    const auto& inputs = network_.nodes[i].inputs;
    const auto fits_first = [&](std::size_t n) {
        return is_constant(n) ? element_count(shapes_[n]) == 1 : is_first(n);
    };
    const bool first = shapes_[i].size() == 3 && fits_first(inputs[0]) && fits_first(inputs[1]);
    layouts_[i] = first ? Layout::channels_first : Layout::plain;
    std::vector<std::string> names;
    for (const std::size_t input : inputs) {
        // Shapes are aligned from the right, and each image has one more dimension than its item: an item
        // of fewer dimensions needs ones before it.
        if (is_constant(input)) {
            names.push_back(name(input));
            continue;
        }
        std::string value = as(input, layouts_[i]);
        if (shapes_[input].size() < shapes_[i].size()) {
            std::vector<std::int64_t> wide(shapes_[i].size() - shapes_[input].size() + 1, 1);
            wide[0] = 0;
            wide.insert(wide.end(), shapes_[input].begin(), shapes_[input].end());
            value =
                add_step("Reshape", i, "wide", {value, add_integers(name(i) + ":wide_shape", wide)}).name();
        }
        names.push_back(value);
    }
    if (is_constant(inputs[0]) && is_constant(inputs[1])) names[0] = batched(inputs[0]);
    add(types.at(op.kind), name(i), names);
}

void ModelWriter::put_arithmetic(Table& table) {
    put<Arithmetic>(table);
}

}  // namespace jevrin::inline v1
