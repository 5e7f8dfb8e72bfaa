// Operators that work element by element, and softmax.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/model_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace jevrin::inline v1 {

using namespace operators;

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
    }
    refuse(i);
}

void ModelWriter::write(std::size_t i, const ParametricRelu&) {
    const Tensor& slope = network_.nodes[i].parameters[0];
    onnx::NodeProto& proto = add_same_layout("PRelu", i);
    const bool turned = is_first(i) && slope.size() > 1;
    proto.add_input(add_weight(name(i) + ":slope", turned ? Shape{slope.size(), 1, 1} : Shape{slope.size()},
                               slope.values()));
}

void ModelWriter::write(std::size_t i, const Softmax& op) {
    onnx::NodeProto& proto = add_same_layout(op.logarithm ? "LogSoftmax" : "Softmax", i);
    set_int(proto, "axis", file_axis(i, op.axis, layouts_[i]));
}

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

void ModelWriter::write(std::size_t i, const Dropout& op) {
    const auto rate = static_cast<float>(op.rate);
    onnx::NodeProto& proto = add_same_layout("Dropout", i);
    proto.add_input(add_weight(name(i) + ":rate", {}, {&rate, 1}));
}

}  // namespace jevrin::inline v1
