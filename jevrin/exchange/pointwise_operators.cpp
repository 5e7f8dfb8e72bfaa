// Functions of one value, element by element, and softmax in model files: read, and written.
#include "jevrin/base/error.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_writer.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <fmt/format.h>

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
        {"Cast", &GraphReader::read_as<Cast>},
        {"CastLike", &GraphReader::read_as<Cast>},
        {"Clip", &GraphReader::read_as<Clip>},
        {"Dropout", &GraphReader::read_as<Dropout>},
        {"LogSoftmax", &GraphReader::read_as<Softmax>},
        {"Softmax", &GraphReader::read_as<Softmax>},
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
    const Tensor stored(turned ? Shape{slope.size(), 1, 1} : Shape{slope.size()}, slope.values());
    proto.add_input(add_own_or_shared(i, 0, name(i) + ":slope", stored));
}

template <>
void ModelWriter::write(std::size_t i, const Softmax& op) {
    onnx::NodeProto& proto = add_same_layout(op.logarithm ? "LogSoftmax" : "Softmax", i);
    set_int(proto, "axis", file_axis(i, op.axis, layouts_[i]));
}

template <>
void ModelWriter::write(std::size_t i, const Dropout& op) {
    const auto rate = static_cast<float>(op.rate);
    onnx::NodeProto& proto = add_same_layout("Dropout", i);
    proto.add_input(add_weight(name(i) + ":rate", {}, {&rate, 1}));
}

void ModelWriter::put_pointwise(Table& table) {
    put<Activation, ParametricRelu, Softmax, Dropout>(table);
}

}  // namespace jevrin::inline v1
