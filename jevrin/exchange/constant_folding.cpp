#include "jevrin/exchange/constant_folding.hpp"

#include "jevrin/exchange/folding_rules.hpp"
#include "jevrin/exchange/moved_dimensions.hpp"
#include "jevrin/exchange/stored_model.hpp"

#include <algorithm>
#include <cmath>
#include <set>

namespace jevrin::inline v1 {

std::vector<const Folded*> pointers_to(const std::vector<std::shared_ptr<const Folded>>& inputs) {
    std::vector<const Folded*> pointers;
    for (const auto& input : inputs) pointers.push_back(input.get());
    return pointers;
}

Folded new_constant(const GraphNode& node, Shape shape, bool whole) {
    std::int64_t count = 1;
    for (const std::int64_t size : shape) {
        if (size < 0 || (size > 0 && count > largest_folded / size))
            node.fail(fmt::format("computes a constant of {}, which is too large", to_string(shape)));
        count *= size;
    }
    return {std::move(shape), std::vector<double>(static_cast<std::size_t>(count)), whole};
}

double rounded(double value, bool whole) {
    return whole ? std::trunc(value) : static_cast<double>(static_cast<float>(value));
}

Shape strides_of(const Shape& shape) {
    Shape strides(shape.size(), 1);
    for (std::size_t d = shape.size(); d-- > 1;) strides[d - 1] = strides[d] * shape[d];
    return strides;
}

namespace {

using Outputs = std::vector<Folded>;

Outputs range(const GraphNode& node, FoldedInputs inputs) {
    if (inputs.size() < 3) node.fail("needs start, limit and delta");
    for (const Folded* input : inputs)
        if (input->values.size() != 1) node.fail("its start, limit and delta must be scalars");
    const double start = inputs[0]->values[0];
    const double step = inputs[2]->values[0];
    const double count = step == 0 ? -1 : std::ceil((inputs[1]->values[0] - start) / step);
    if (!(count <= static_cast<double>(largest_folded))) node.fail("its range is infinite or too long");
    Folded out = new_constant(node, {static_cast<std::int64_t>(std::max(0.0, count))}, inputs[0]->whole);
    for (std::size_t i = 0; i < out.values.size(); ++i)
        out.values[i] = rounded(start + static_cast<double>(i) * step, out.whole);
    return {out};
}

Outputs constant(const GraphNode& node, FoldedInputs) {
    if (const auto* value = node.attribute("value")) {
        const StoredTensor tensor(value->t());
        Folded out = new_constant(node, tensor.shape(), tensor.whole());
        out.element_type = tensor.element_type();
        tensor.read(0, std::span<double>(out.values));
        return {out};
    }
    if (const auto* one = node.attribute("value_float")) return {Folded{{}, {one->f()}, false}};
    if (const auto* one = node.attribute("value_int"))
        return {Folded{{}, {static_cast<double>(one->i())}, true}};
    if (const auto* many = node.attribute("value_floats"))
        return {Folded{{many->floats_size()}, {many->floats().begin(), many->floats().end()}, false}};
    if (const auto* many = node.attribute("value_ints"))
        return {Folded{{many->ints_size()}, {many->ints().begin(), many->ints().end()}, true}};
    node.fail("its constant has an unsupported type");
}

Outputs constant_of_shape(const GraphNode& node, FoldedInputs inputs) {
    Folded out = new_constant(node, inputs[0]->integers(), false);
    if (const auto* value = node.attribute("value")) {
        const StoredTensor tensor(value->t());
        if (tensor.size() != 1) node.fail("its value must be a scalar");
        double one = 0.0;
        tensor.read(0, std::span<double>(&one, 1));
        std::fill(out.values.begin(), out.values.end(), one);
        out.whole = tensor.whole();
    }
    return {out};
}

Outputs cast(const GraphNode& node, FoldedInputs inputs) {
    Folded out = *inputs[0];
    const std::int64_t to = node.integer("to", onnx::TensorProto::FLOAT);
    out.whole = to != onnx::TensorProto::FLOAT && to != onnx::TensorProto::DOUBLE &&
                to != onnx::TensorProto::FLOAT16 && to != onnx::TensorProto::BFLOAT16;
    for (double& value : out.values)
        value = to == onnx::TensorProto::BOOL ? (value != 0 ? 1.0 : 0.0) : rounded(value, out.whole);
    return {out};
}

Outputs cast_like(const GraphNode&, FoldedInputs inputs) {
    Folded out = *inputs[0];
    out.whole = inputs[1]->whole;
    for (double& value : out.values) value = rounded(value, out.whole);
    return {out};
}

Outputs shape_of(const GraphNode& node, FoldedInputs inputs) {
    return {shape_value(node, inputs[0]->shape)};
}

Outputs size_of(const GraphNode&, FoldedInputs inputs) {
    return {Folded{{}, {static_cast<double>(element_count(inputs[0]->shape))}, true}};
}

const FoldingRules& rules() {
    static const FoldingRules table = [] {
        FoldingRules all = {
            {"Cast", {1, cast}},         {"CastLike", {2, cast_like}},
            {"Constant", {0, constant}}, {"ConstantOfShape", {1, constant_of_shape}},
            {"Range", {3, range}},       {"Shape", {1, shape_of}},
            {"Size", {1, size_of}},
        };
        all.insert(arithmetic_rules().begin(), arithmetic_rules().end());
        all.insert(movement_rules().begin(), movement_rules().end());
        return all;
    }();
    return table;
}

// Marked in files of our own: a constant that does not train.
bool is_fixed(const GraphNode& node) {
    return node.type() == "Constant" && node.description() == fixed_constant;
}

// What only moves every element once keeps weights what they are.
bool only_reorders(const std::string& type) {
    static const std::set<std::string> types = {"Identity",  "Reshape",   "Flatten", "Squeeze",
                                                "Unsqueeze", "Transpose", "Cast"};
    return types.contains(type);
}

// What takes every element at most once makes other weights of them.
bool only_takes(const GraphNode& node, FoldedInputs inputs) {
    const std::string& type = node.type();
    if (type == "Slice" || type == "Split") return inputs[0]->origin == Origin::weight;
    if (type == "Concat")
        return std::ranges::all_of(inputs,
                                   [](const Folded* input) { return input->origin == Origin::weight; });
    if (type != "Gather" || inputs[0]->origin != Origin::weight) return false;
    const std::set<double> places(inputs[1]->values.begin(), inputs[1]->values.end());
    return places.size() == inputs[1]->values.size();
}

void note_origin(const GraphNode& node, FoldedInputs inputs, std::vector<Folded>& outputs) {
    for (std::size_t i = 0; i < outputs.size(); ++i) {
        Folded& output = outputs[i];
        if (output.whole || output.values.size() < 2) continue;
        if (node.type() == "Constant" && !is_fixed(node)) {
            output.origin = Origin::weight;
            output.weight = node.output();
        }
        for (const Folded* input : inputs) {
            if (input == nullptr || input->origin == Origin::none) continue;
            output.origin = only_reorders(node.type()) ? input->origin : Origin::computed;
            output.weight = input->weight;
            break;
        }
        if (output.origin == Origin::computed && only_takes(node, inputs)) {
            output.origin = Origin::weight;
            output.weight = node.output(static_cast<int>(i));
        }
    }
}

}  // namespace

bool can_fold(const std::string& type) {
    return rules().contains(type);
}

std::vector<std::string> foldable_operators() {
    std::vector<std::string> names;
    for (const auto& [name, rule] : rules()) names.push_back(name);
    return names;
}

std::vector<Folded> fold(const GraphNode& node, FoldedInputs inputs) {
    const FoldingRule& rule = rules().at(node.type());
    node.expect_inputs(rule.least_inputs, 1 << 16);
    for (int i = 0; i < rule.least_inputs; ++i)
        if (inputs[static_cast<std::size_t>(i)] == nullptr) node.fail("an input is missing");
    std::vector<Folded> outputs = rule.fold(node, inputs);
    note_origin(node, inputs, outputs);
    return outputs;
}

}  // namespace jevrin::inline v1
