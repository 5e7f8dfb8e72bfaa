// What works element by element in model files: read, and written.
#include "jevrin/base/error.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_writer.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct Clip;
struct Cast;

}  // namespace

View GraphReader::pointwise(const std::string& name, const Operator& op, const View& view) {
    View result = view;
    result.node = builder_.add(name, op, {view.node});
    return result;
}

View GraphReader::with_number(const std::string& name, ArithmeticKind kind, const View& view, float number) {
    View result = view;
    result.node = builder_.add(name, Arithmetic{kind}, {view.node, fixed_number(name + ":number", number)});
    return result;
}

template <>
void GraphReader::read_as<Activation>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& view = dynamic(node, 0);
    const std::string& type = node.type();
    if (type == "Neg") return set(node, with_number(node.name(), ArithmeticKind::multiply, view, -1.0F));
    if (type == "Reciprocal") return set(node, with_number(node.name(), ArithmeticKind::power, view, -1.0F));
    using Kind = FunctionKind;
    Function function;
    if (type == "Relu") function = {Kind::relu};
    if (type == "Sigmoid") function = {Kind::sigmoid};
    if (type == "Tanh") function = {Kind::tanh};
    if (type == "Erf") function = {Kind::erf};
    if (type == "Sqrt") function = {Kind::square_root};
    if (type == "Exp") function = {Kind::exponential};
    if (type == "Log") function = {Kind::logarithm};
    if (type == "Abs") function = {Kind::absolute};
    if (type == "Softplus") function = {Kind::softplus};
    if (type == "Softsign") function = {Kind::softsign};
    if (type == "HardSwish") function = {Kind::hard_swish};
    if (type == "Round") function = {Kind::round};
    if (type == "ThresholdedRelu") function = {Kind::thresholded_relu, node.number("alpha", 1.0F)};
    if (type == "LeakyRelu") function = {Kind::leaky_relu, node.number("alpha", 0.01F)};
    if (type == "HardSigmoid")
        function = {Kind::hard_sigmoid, node.number("alpha", 0.2F), node.number("beta", 0.5F)};
    if (type == "Elu") function = {Kind::elu, node.number("alpha", 1.0F), 1.0F};
    if (type == "Selu")
        function = {Kind::elu, node.number("alpha", 1.67326319F), node.number("gamma", 1.05070102F)};
    set(node, pointwise(node.name(), Activation{function}, view));
}

template <>
void GraphReader::read_as<Clip>(const GraphNode& node) {
    node.expect_inputs(1, 3);
    const auto bound = [&](const char* attribute, int input, float otherwise) {
        if (!node.has_input(input)) return node.number(attribute, otherwise);
        const Weight stored = weight(node, input);
        if (element_count(stored.shape) != 1) node.fail("its bounds must be scalars");
        float value = 0.0F;
        stored.read(0, {&value, 1});
        return value;
    };
    const float low = bound("min", 1, std::numeric_limits<float>::lowest());
    const float high = bound("max", 2, std::numeric_limits<float>::max());
    set(node, pointwise(node.name(), Activation{{FunctionKind::clip, low, high}}, dynamic(node, 0)));
}

template <>
void GraphReader::read_as<Dropout>(const GraphNode& node) {
    node.expect_inputs(1, 3);
    double rate = static_cast<double>(node.number("ratio", 0.5F));
    if (node.has_input(1)) {
        const Weight stored = weight(node, 1);
        float value = 0.0F;
        if (element_count(stored.shape) != 1) node.fail("its ratio must be a scalar");
        stored.read(0, {&value, 1});
        rate = static_cast<double>(value);
    }
    if (node.has_input(2)) {
        const auto training = known(value(node, 2));
        if (!training || training->values.empty() || training->values[0] != 0.0)
            node.fail("it is in training mode; export the model for inference");
    }
    if (!(rate >= 0.0 && rate < 1.0)) node.fail("its ratio must be at least 0 and below 1");
    set(node, pointwise(node.name(), Dropout{rate}, dynamic(node, 0)));
}

template <>
void GraphReader::read_as<Cast>(const GraphNode& node) {
    node.expect_inputs(1, 2);
    const std::int64_t to = node.integer("to", onnx::TensorProto::FLOAT);
    if (to != onnx::TensorProto::FLOAT && to != onnx::TensorProto::DOUBLE &&
        to != onnx::TensorProto::FLOAT16 && to != onnx::TensorProto::BFLOAT16)
        node.fail("casts image values to integers, which have no gradient");
    set(node, dynamic(node, 0));
}

View GraphReader::joined_views(const std::string& name, ArithmeticKind kind, const View& a, const View& b) {
    View left = a;
    View right = b;
    const std::size_t dimensions = std::max(a.dims.size(), b.dims.size());
    for (View* view : {&left, &right})
        view->dims.insert(view->dims.begin(), dimensions - view->dims.size(), std::vector<int>{});
    const auto batch_of = [](const std::vector<int>& dim) {
        return std::find(dim.begin(), dim.end(), batch_axis) != dim.end();
    };
    // What is made of constants alone has no batch, and one element where the other has its batch.
    const auto has_batch = [&](const View& view) { return std::ranges::any_of(view.dims, batch_of); };
    const bool one_is_constant = has_batch(left) != has_batch(right);
    for (std::size_t d = 0; d < dimensions; ++d)
        if (batch_of(left.dims[d]) != batch_of(right.dims[d]) &&
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

template <>
void GraphReader::read_as<Softmax>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& view = dynamic(node, 0);
    const bool logarithm = node.type() == "LogSoftmax";
    // Up to operator set 12 all dimensions from the axis on were one distribution.
    const bool joint = node.opset() < 13;
    const std::int64_t axis = node.axis(node.integer("axis", joint ? 1 : -1), rank(view));
    const auto at = static_cast<std::size_t>(axis);
    if (joint && axis + 1 < rank(view)) {
        Shape flat = sizes(view);
        const std::int64_t rest = element_count({flat.begin() + axis, flat.end()});
        const Shape whole = flat;
        flat.resize(at);
        flat.push_back(rest);
        View row = builder_.reshape(view, flat, batch_prime, node.name() + ":row");
        row = builder_.with_last(row, {static_cast<int>(axis)}, node.name());
        const std::int64_t last = std::ssize(builder_.shape(row.node)) - 1;
        row.node = builder_.add(node.name(), Softmax{last, logarithm}, {row.node});
        return set(node, builder_.reshape(row, whole, batch_prime, node.name() + ":whole"));
    }
    const auto& dim = view.dims[at];
    if (dim.size() == 1 && dim[0] != batch_axis)
        return set(node, pointwise(node.name(), Softmax{dim[0], logarithm}, view));
    View result = builder_.with_last(view, {static_cast<int>(axis)}, node.name());
    const std::int64_t last = std::ssize(builder_.shape(result.node)) - 1;
    result.node = builder_.add(node.name(), Softmax{last, logarithm}, {result.node});
    set(node, result);
}

void GraphReader::put_pointwise(Table& table) {
    table.insert({
        {"Add", &GraphReader::read_as<Arithmetic>},
        {"Cast", &GraphReader::read_as<Cast>},
        {"CastLike", &GraphReader::read_as<Cast>},
        {"Clip", &GraphReader::read_as<Clip>},
        {"Div", &GraphReader::read_as<Arithmetic>},
        {"Dropout", &GraphReader::read_as<Dropout>},
        {"LogSoftmax", &GraphReader::read_as<Softmax>},
        {"Max", &GraphReader::read_as<Arithmetic>},
        {"Mean", &GraphReader::read_as<Arithmetic>},
        {"Min", &GraphReader::read_as<Arithmetic>},
        {"Mul", &GraphReader::read_as<Arithmetic>},
        {"Pow", &GraphReader::read_as<Arithmetic>},
        {"Softmax", &GraphReader::read_as<Softmax>},
        {"Sub", &GraphReader::read_as<Arithmetic>},
        {"Sum", &GraphReader::read_as<Arithmetic>},
        {"Abs", &GraphReader::read_as<Activation>},
        {"Elu", &GraphReader::read_as<Activation>},
        {"Erf", &GraphReader::read_as<Activation>},
        {"Exp", &GraphReader::read_as<Activation>},
        {"HardSigmoid", &GraphReader::read_as<Activation>},
        {"HardSwish", &GraphReader::read_as<Activation>},
        {"LeakyRelu", &GraphReader::read_as<Activation>},
        {"Log", &GraphReader::read_as<Activation>},
        {"Neg", &GraphReader::read_as<Activation>},
        {"Reciprocal", &GraphReader::read_as<Activation>},
        {"Relu", &GraphReader::read_as<Activation>},
        {"Round", &GraphReader::read_as<Activation>},
        {"ThresholdedRelu", &GraphReader::read_as<Activation>},
        {"Selu", &GraphReader::read_as<Activation>},
        {"Sigmoid", &GraphReader::read_as<Activation>},
        {"Softplus", &GraphReader::read_as<Activation>},
        {"Softsign", &GraphReader::read_as<Activation>},
        {"Sqrt", &GraphReader::read_as<Activation>},
        {"Tanh", &GraphReader::read_as<Activation>},
    });
}

template <>
void ModelWriter::write(std::size_t i, const Activation& op) {
    const Function& f = op.function;
    switch (f.kind) {
        case FunctionKind::identity:
            add_same_layout("Identity", i);
            return;
        case FunctionKind::relu:
            add_same_layout("Relu", i);
            return;
        case FunctionKind::clip: {
            const std::string low = add_number(i, "low", f.alpha);
            const std::string high = add_number(i, "high", f.beta);
            onnx::NodeProto& proto = add_same_layout("Clip", i);
            proto.add_input(low);
            proto.add_input(high);
            return;
        }
        case FunctionKind::leaky_relu:
            set_float(add_same_layout("LeakyRelu", i), "alpha", f.alpha);
            return;
        case FunctionKind::sigmoid:
            add_same_layout("Sigmoid", i);
            return;
        case FunctionKind::hard_sigmoid: {
            onnx::NodeProto& proto = add_same_layout("HardSigmoid", i);
            set_float(proto, "alpha", f.alpha);
            set_float(proto, "beta", f.beta);
            return;
        }
        case FunctionKind::hard_swish:
            add_same_layout("HardSwish", i);
            return;
        case FunctionKind::silu: {
            const std::size_t x = network_.nodes[i].inputs[0];
            const std::string gate = add_step("Sigmoid", i, "gate", {batched(x)}).name();
            add_same_layout("Mul", i).add_input(gate);
            return;
        }
        case FunctionKind::tanh:
            add_same_layout("Tanh", i);
            return;
        case FunctionKind::erf:
            add_same_layout("Erf", i);
            return;
        case FunctionKind::gelu: {
            const std::string x = batched(network_.nodes[i].inputs[0]);
            const std::string root = add_number(i, "root", std::numbers::sqrt2_v<float>);
            const std::string inner = add_step("Div", i, "inner", {x, root}).name();
            const std::string error = add_step("Erf", i, "erf", {inner}).name();
            const std::string one = add_number(i, "one", 1.0F);
            const std::string sum = add_step("Add", i, "sum", {error, one}).name();
            const std::string gated = add_step("Mul", i, "gated", {x, sum}).name();
            const std::string half = add_number(i, "half", 0.5F);
            layouts_[i] = layouts_[network_.nodes[i].inputs[0]];
            add("Mul", name(i), {gated, half});
            return;
        }
        case FunctionKind::square_root:
            add_same_layout("Sqrt", i);
            return;
        case FunctionKind::exponential:
            add_same_layout("Exp", i);
            return;
        case FunctionKind::logarithm:
            add_same_layout("Log", i);
            return;
        case FunctionKind::absolute:
            add_same_layout("Abs", i);
            return;
        case FunctionKind::elu: {
            onnx::NodeProto& proto = add_same_layout(f.beta == 1.0F ? "Elu" : "Selu", i);
            set_float(proto, "alpha", f.alpha);
            if (f.beta != 1.0F) set_float(proto, "gamma", f.beta);
            return;
        }
        case FunctionKind::softplus:
            add_same_layout("Softplus", i);
            return;
        case FunctionKind::softsign:
            add_same_layout("Softsign", i);
            return;
        case FunctionKind::thresholded_relu:
            set_float(add_same_layout("ThresholdedRelu", i), "alpha", f.alpha);
            return;
        case FunctionKind::round:
            add_same_layout("Round", i);
            return;
    }
    refuse(i);
}

template <>
void ModelWriter::write(std::size_t i, const ParametricRelu&) {
    const Tensor& slope = network_.nodes[i].parameters[0];
    onnx::NodeProto& proto = add_same_layout("PRelu", i);
    const bool turned = is_first(i) && slope.size() > 1;
    proto.add_input(add_weight(name(i) + ":slope", turned ? Shape{slope.size(), 1, 1} : Shape{slope.size()},
                               slope.values()));
}

template <>
void ModelWriter::write(std::size_t i, const Softmax& op) {
    onnx::NodeProto& proto = add_same_layout(op.logarithm ? "LogSoftmax" : "Softmax", i);
    set_int(proto, "axis", file_axis(i, op.axis, layouts_[i]));
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

template <>
void ModelWriter::write(std::size_t i, const Dropout& op) {
    const auto rate = static_cast<float>(op.rate);
    onnx::NodeProto& proto = add_same_layout("Dropout", i);
    proto.add_input(add_weight(name(i) + ":rate", {}, {&rate, 1}));
}

void ModelWriter::put_pointwise(Table& table) {
    put<Activation, ParametricRelu, Softmax, Arithmetic, Dropout>(table);
}

}  // namespace jevrin::inline v1
