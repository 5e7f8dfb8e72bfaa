// Writes graphs as exporters do: the operators of layers, in a style of naming and for an operator set.
#pragma once

#include "support/exported_model.hpp"
#include "support/support.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <onnx/onnx_pb.h>

#include <cmath>
#include <functional>

namespace jevrin::test {

using Values = std::vector<std::string>;
using Integers = std::vector<std::int64_t>;

inline onnx::AttributeProto attribute(const std::string& name, const Integers& values) {
    onnx::AttributeProto made;
    made.set_name(name);
    made.set_type(onnx::AttributeProto::INTS);
    for (const std::int64_t value : values) made.add_ints(value);
    return made;
}
inline onnx::AttributeProto attribute(const std::string& name, std::int64_t value) {
    onnx::AttributeProto made;
    made.set_name(name);
    made.set_type(onnx::AttributeProto::INT);
    made.set_i(value);
    return made;
}
inline onnx::AttributeProto attribute(const std::string& name, float value) {
    onnx::AttributeProto made;
    made.set_name(name);
    made.set_type(onnx::AttributeProto::FLOAT);
    made.set_f(value);
    return made;
}
using Attributes = std::vector<onnx::AttributeProto>;

class Exporter {
  public:
    Exporter(NamingStyle style, int opset, std::int64_t size) : style_(style), opset_(opset) {
        model_.set_ir_version(8);
        model_.add_opset_import()->set_version(opset);
        auto& input = *graph().add_input();
        graph().set_name("exported");
        input.set_name(style == NamingStyle::anonymous ? "v0" : "input");
        auto& type = *input.mutable_type()->mutable_tensor_type();
        type.set_elem_type(onnx::TensorProto::FLOAT);
        type.mutable_shape()->add_dim()->set_dim_param("batch");
        for (const std::int64_t dim : {std::int64_t{3}, size, size})
            type.mutable_shape()->add_dim()->set_dim_value(dim);
    }

    std::string input() { return graph().input(0).name(); }
    int opset() const { return opset_; }
    std::string finish(const std::string& output) {
        auto& made = *graph().add_output();
        made.set_name(output);
        made.mutable_type()->mutable_tensor_type()->set_elem_type(onnx::TensorProto::FLOAT);
        return model_.SerializeAsString();
    }

    // What is written between stands in a module of this name.
    std::string inside(const std::string& module, const std::function<std::string()>& write) {
        modules_.push_back(module);
        std::string made = write();
        modules_.pop_back();
        return made;
    }

    Values nodes(const std::string& type, const Values& inputs, const Attributes& attributes, int outputs) {
        onnx::NodeProto& node = *graph().add_node();
        node.set_op_type(type);
        for (const std::string& input : inputs) node.add_input(input);
        for (const auto& one : attributes) *node.add_attribute() = one;
        ++number_;
        std::string name;
        if (style_ == NamingStyle::modules) {
            for (std::size_t m = 0; m < modules_.size(); ++m) {
                const bool listed = modules_[m].find_first_not_of("0123456789") == std::string::npos && m > 0;
                name += "/" + (listed ? modules_[m - 1] + "." + modules_[m] : modules_[m]);
            }
            name += fmt::format("/{}_{}", type, number_);
        } else if (style_ == NamingStyle::flat) {
            name = fmt::format("model/{}/{}__{}", fmt::join(modules_, "_"), type, number_);
        } else if (style_ == NamingStyle::numbered) {
            name = fmt::format("{}_{}", type, number_);
        }
        node.set_name(name);
        Values made;
        for (int i = 0; i < outputs; ++i) {
            made.push_back(style_ == NamingStyle::modules ? fmt::format("{}_output_{}", name, i)
                                                          : fmt::format("v{}_{}", number_, i));
            node.add_output(made.back());
        }
        return made;
    }
    std::string node(const std::string& type, const Values& inputs, const Attributes& attributes = {}) {
        return nodes(type, inputs, attributes, 1)[0];
    }

    // Normal numbers that depend on the module and the role alone.
    std::string weight(const std::string& role, const Shape& shape, double deviation, double mean = 0.0,
                       bool named = true) {
        const std::string path = fmt::format("{}.{}", fmt::join(modules_, "."), role);
        std::uint64_t seed = 1469598103934665603U;
        for (const char c : path) seed = (seed ^ static_cast<unsigned char>(c)) * 1099511628211U;
        Tensor tensor = random_tensor(shape, seed % 1'000'003, deviation);
        for (float& value : tensor.values()) value += static_cast<float>(mean);
        const bool plain = style_ == NamingStyle::anonymous || (style_ == NamingStyle::numbered && !named);
        onnx::TensorProto& made = *graph().add_initializer();
        made.set_name(plain ? fmt::format("w{}", graph().initializer_size())
                      : style_ == NamingStyle::flat
                          ? fmt::format("model/{}/{}/Read:0", fmt::join(modules_, "_"), role)
                          : path);
        made.set_data_type(onnx::TensorProto::FLOAT);
        for (const std::int64_t dim : shape) made.add_dims(dim);
        made.set_raw_data(tensor.values().data(), tensor.values().size_bytes());
        return made.name();
    }
    std::string constant(const onnx::TensorProto& tensor) {
        onnx::AttributeProto value;
        value.set_name("value");
        value.set_type(onnx::AttributeProto::TENSOR);
        *value.mutable_t() = tensor;
        return node("Constant", {}, {value});
    }
    std::string integers(const Integers& values) {
        onnx::TensorProto tensor;
        tensor.set_data_type(onnx::TensorProto::INT64);
        tensor.add_dims(std::ssize(values));
        for (const std::int64_t value : values) tensor.add_int64_data(value);
        return constant(tensor);
    }
    std::string integer(std::int64_t value) {
        onnx::TensorProto tensor;
        tensor.set_data_type(onnx::TensorProto::INT64);
        tensor.add_int64_data(value);
        return constant(tensor);
    }
    std::string number(float value) {
        onnx::TensorProto tensor;
        tensor.set_data_type(onnx::TensorProto::FLOAT);
        tensor.add_float_data(value);
        return constant(tensor);
    }

    std::string convolution(const std::string& x, const std::string& module, std::int64_t in,
                            std::int64_t out, std::int64_t kernel, std::int64_t stride = 1,
                            std::int64_t groups = 1, bool bias = false) {
        return inside(module, [&] {
            const double deviation = std::sqrt(2.0 / static_cast<double>(in / groups * kernel * kernel));
            Values inputs = {x, weight("weight", {out, in / groups, kernel, kernel}, deviation)};
            if (bias) inputs.push_back(weight("bias", {out}, 0.1));
            // An even kernel is a patch; others keep the size.
            const std::int64_t pad = kernel % 2 == 0 ? 0 : kernel / 2;
            return node("Conv", inputs,
                        {attribute("kernel_shape", Integers{kernel, kernel}),
                         attribute("strides", Integers{stride, stride}),
                         attribute("pads", Integers{pad, pad, pad, pad}),
                         attribute("dilations", Integers{1, 1}), attribute("group", groups)});
        });
    }
    std::string batch_normalisation(const std::string& x, const std::string& module, std::int64_t channels) {
        return inside(module, [&] {
            const Values inputs = {x, weight("weight", {channels}, 0.1, 1.0), weight("bias", {channels}, 0.1),
                                   weight("running_mean", {channels}, 0.1),
                                   weight("running_var", {channels}, 0.05, 1.0)};
            return node("BatchNormalization", inputs,
                        {attribute("epsilon", 1e-5F), attribute("momentum", 0.9F)});
        });
    }
    std::string activation(const std::string& x, const std::string& type) {
        return inside("act", [&] { return node(type, {x}); });
    }
    std::string convolution_block(std::string x, const std::string& module, std::int64_t in, std::int64_t out,
                                  std::int64_t kernel, std::int64_t stride, std::int64_t groups,
                                  const std::string& function) {
        return inside(module, [&] {
            x = convolution(x, "conv", in, out, kernel, stride, groups);
            x = batch_normalisation(x, "bn", out);
            if (function == "HardSwish") return inside("act", [&] { return hard_swish(x); });
            return function.empty() ? x : activation(x, function);
        });
    }
    std::string hard_swish(const std::string& x) {
        if (opset_ >= 14) return node("HardSwish", {x});
        const std::string shifted = node("Add", {x, number(3.0F)});
        const std::string clipped = node("Clip", {shifted, number(0.0F), number(6.0F)});
        return node("Div", {node("Mul", {x, clipped}), number(6.0F)});
    }
    std::string gelu(const std::string& x) {
        return inside("act", [&] {
            if (opset_ >= 20) return node("Gelu", {x});
            const std::string inner = node("Erf", {node("Div", {x, number(std::sqrt(2.0F))})});
            return node("Mul", {node("Mul", {x, node("Add", {inner, number(1.0F)})}), number(0.5F)});
        });
    }
    // Over the last dimension.
    std::string layer_normalisation(const std::string& x, const std::string& module, std::int64_t width) {
        return inside(module, [&] {
            const std::string scale = weight("weight", {width}, 0.1, 1.0);
            const std::string shift = weight("bias", {width}, 0.1);
            if (opset_ >= 17)
                return node("LayerNormalization", {x, scale, shift},
                            {attribute("axis", std::int64_t{-1}), attribute("epsilon", 1e-5F)});
            const std::string centred = node("Sub", {x, mean(x, {-1}, true)});
            const std::string variance = mean(node("Pow", {centred, number(2.0F)}), {-1}, true);
            const std::string deviation = node("Sqrt", {node("Add", {variance, number(1e-5F)})});
            return node("Add", {node("Mul", {node("Div", {centred, deviation}), scale}), shift});
        });
    }
    std::string mean(const std::string& x, const Integers& axes, bool keep) {
        const auto kept = attribute("keepdims", std::int64_t{keep});
        if (opset_ < 18) return node("ReduceMean", {x}, {attribute("axes", axes), kept});
        return node("ReduceMean", {x, integers(axes)}, {kept});
    }
    // A dense layer on vectors, or on the last dimension of tokens.
    std::string dense(const std::string& x, const std::string& module, std::int64_t in, std::int64_t out,
                      bool tokens, bool bias = true) {
        return inside(module, [&] {
            const double deviation = 1.0 / std::sqrt(static_cast<double>(in));
            if (!tokens) {
                Values inputs = {x, weight("weight", {out, in}, deviation), weight("bias", {out}, 0.1)};
                return node("Gemm", inputs,
                            {attribute("alpha", 1.0F), attribute("beta", 1.0F),
                             attribute("transB", std::int64_t{1})});
            }
            const std::string product =
                node("MatMul", {x, weight("weight", {in, out}, deviation, 0.0, false)});
            return bias ? node("Add", {weight("bias", {out}, 0.1), product}) : product;
        });
    }
    std::string reshape(const std::string& x, const Integers& shape) {
        return node("Reshape", {x, integers(shape)});
    }
    std::string transpose(const std::string& x, const Integers& order) {
        return node("Transpose", {x}, {attribute("perm", order)});
    }
    Values split(const std::string& x, std::int64_t axis, const Integers& lengths) {
        const int parts = static_cast<int>(lengths.size());
        const auto along = attribute("axis", axis);
        if (opset_ < 13) return nodes("Split", {x}, {along, attribute("split", lengths)}, parts);
        if (opset_ < 18) return nodes("Split", {x, integers(lengths)}, {along}, parts);
        return nodes("Split", {x}, {along, attribute("num_outputs", std::int64_t{parts})}, parts);
    }
    std::string slice(const std::string& x, std::int64_t axis, std::int64_t begin, std::int64_t end,
                      std::int64_t step = 1) {
        return node("Slice", {x, integers({begin}), integers({end}), integers({axis}), integers({step})});
    }
    std::string global_average(const std::string& x) {
        return inside("avgpool", [&] { return node("GlobalAveragePool", {x}); });
    }
    std::string flatten(const std::string& x) {
        return node("Flatten", {x}, {attribute("axis", std::int64_t{1})});
    }
    std::string max_pooling(const std::string& x, std::int64_t kernel, std::int64_t stride) {
        const std::int64_t pad = kernel / 2 == stride ? kernel / 2 - 1 + kernel % 2 : 0;
        return node("MaxPool", {x},
                    {attribute("kernel_shape", Integers{kernel, kernel}),
                     attribute("strides", Integers{stride, stride}),
                     attribute("pads", Integers{pad, pad, pad, pad})});
    }
    std::string softmax(const std::string& x) {
        return node("Softmax", {x}, {attribute("axis", std::int64_t{-1})});
    }

  private:
    onnx::GraphProto& graph() { return *model_.mutable_graph(); }

    NamingStyle style_;
    int opset_;
    int number_ = 0;
    std::vector<std::string> modules_;
    onnx::ModelProto model_;
};

}  // namespace jevrin::test
