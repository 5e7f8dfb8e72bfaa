// Operators with weights: convolutions, normalisations, dense layers, matrix products.
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

void ModelWriter::write(std::size_t i, const Convolution& op) {
    const Node& node = network_.nodes[i];
    if (op.activation.kind != FunctionKind::identity) refuse(i);
    onnx::NodeProto& proto = add_image("Conv", i);
    set_window(proto, op.window);
    if (op.groups != 1) set_int(proto, "group", op.groups);
    const Tensor& w = node.parameters[0];
    const Shape& s = w.shape();
    Tensor first({s[3], s[2], s[0], s[1]});
    for (std::int64_t tap = 0; tap < s[0] * s[1]; ++tap)
        for (std::int64_t in = 0; in < s[2]; ++in)
            for (std::int64_t out = 0; out < s[3]; ++out)
                first.data()[(out * s[2] + in) * s[0] * s[1] + tap] =
                    w.data()[(tap * s[2] + in) * s[3] + out];
    proto.add_input(add_weight(name(i) + ":weight", first.shape(), first.values()));
    if (node.parameters.size() > 1) add_parameter(proto, i, 1);
}

void ModelWriter::write(std::size_t i, const BatchNormalisation& op) {
    write_by_channels(i, [&](const std::string& input, const std::string& called) {
        onnx::NodeProto& proto = add("BatchNormalization", called, {input});
        set_float(proto, "epsilon", op.epsilon);
        set_float(proto, "momentum", 1.0F - op.momentum);
        for (std::size_t p = 0; p < 4; ++p) add_parameter(proto, i, p);
    });
}

void ModelWriter::write(std::size_t i, const GroupNormalisation& op) {
    write_by_channels(i, [&](const std::string& input, const std::string& called) {
        const Node& node = network_.nodes[i];
        const std::int64_t channels = shapes_[i].back();
        if (op.groups == channels && shapes_[i].size() > 1) {
            onnx::NodeProto& proto = add("InstanceNormalization", called, {input});
            set_float(proto, "epsilon", op.epsilon);
            add_parameter(proto, i, 0);
            add_parameter(proto, i, 1);
            return;
        }
        const std::string cut = add_step("Reshape", i, "groups",
                                         {input, add_integers(name(i) + ":groups_shape", {0, op.groups, -1})})
                                    .name();
        const std::vector<float> ones(static_cast<std::size_t>(op.groups), 1.0F);
        const std::vector<float> zeros(static_cast<std::size_t>(op.groups), 0.0F);
        onnx::NodeProto& normal = add_step("InstanceNormalization", i, "normalised", {cut});
        normal.add_input(add_weight(name(i) + ":one", {op.groups}, ones));
        normal.add_input(add_weight(name(i) + ":zero", {op.groups}, zeros));
        set_float(normal, "epsilon", op.epsilon);
        const Shape& s = shapes_[i];
        std::vector<std::int64_t> whole = {0, channels};
        whole.insert(whole.end(), s.begin(), s.end() - 1);
        const std::string back =
            add_step("Reshape", i, "whole", {normal.name(), add_integers(name(i) + ":whole_shape", whole)})
                .name();
        Shape wide(s.size(), 1);
        wide[0] = channels;
        const std::string scaled =
            add_step("Mul", i, "scaled",
                     {back, add_weight(name(i) + ":scale", wide, node.parameters[0].values())})
                .name();
        add("Add", called, {scaled, add_weight(name(i) + ":shift", wide, node.parameters[1].values())});
    });
}

void ModelWriter::write(std::size_t i, const LayerNormalisation& op) {
    onnx::NodeProto& proto = add_plain("LayerNormalization", i);
    set_int(proto, "axis", -std::ssize(network_.nodes[i].parameters[0].shape()));
    set_float(proto, "epsilon", op.epsilon);
    add_parameter(proto, i, 0);
    add_parameter(proto, i, 1);
}

void ModelWriter::write(std::size_t i, const MatrixProduct&) {
    std::vector<std::string> inputs;
    for (const std::size_t input : network_.nodes[i].inputs)
        inputs.push_back(is_constant(input) ? name(input) : as(input, Layout::plain));
    add("MatMul", name(i), inputs);
}

void ModelWriter::write(std::size_t i, const Dense&) {
    const Node& node = network_.nodes[i];
    if (shapes_[i].size() == 1) {
        onnx::NodeProto& proto = add_plain("Gemm", i);
        add_parameter(proto, i, 0);
        if (node.parameters.size() > 1) add_parameter(proto, i, 1);
        return;
    }
    const bool biased = node.parameters.size() > 1;
    const std::string product = biased ? fresh(name(i) + ":product") : name(i);
    onnx::NodeProto& proto = add("MatMul", product, {as(node.inputs[0], Layout::plain)});
    add_parameter(proto, i, 0);
    if (biased) {
        onnx::NodeProto& sum = add("Add", name(i), {product});
        add_parameter(sum, i, 1);
    }
}

}  // namespace jevrin::inline v1
