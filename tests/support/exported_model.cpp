#include "support/exported_model.hpp"

#include "support/support.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <onnx/onnx_pb.h>

#include <cmath>
#include <functional>
#include <numeric>

namespace jevrin::test {

const char* name_of(ExportedFamily family) {
    static const char* const names[] = {"plain",
                                        "residual",
                                        "densely_connected",
                                        "inverted_residual",
                                        "transformer",
                                        "windowed_transformer",
                                        "mixer",
                                        "large_kernel"};
    return names[static_cast<std::size_t>(family)];
}

const char* name_of(NamingStyle style) {
    static const char* const names[] = {"modules", "numbered", "anonymous"};
    return names[static_cast<std::size_t>(style)];
}

namespace {

using Values = std::vector<std::string>;
using Integers = std::vector<std::int64_t>;

onnx::AttributeProto attribute(const std::string& name, const Integers& values) {
    onnx::AttributeProto made;
    made.set_name(name);
    made.set_type(onnx::AttributeProto::INTS);
    for (const std::int64_t value : values) made.add_ints(value);
    return made;
}
onnx::AttributeProto attribute(const std::string& name, std::int64_t value) {
    onnx::AttributeProto made;
    made.set_name(name);
    made.set_type(onnx::AttributeProto::INT);
    made.set_i(value);
    return made;
}
onnx::AttributeProto attribute(const std::string& name, float value) {
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
        made.set_name(plain ? fmt::format("w{}", graph().initializer_size()) : path);
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

std::string numbered(int number) {
    return std::to_string(number);
}

// Each family: what is made before the pooling (or the choice of a token), and the pooling itself.
class Family {
  public:
    Family(Exporter& to, std::int64_t size) : e(to), size_(size) {}

    std::string plain() {
        std::string x = e.input();
        e.inside("features", [&] {
            std::int64_t in = 3;
            int layer = 0;
            for (const std::int64_t out : {8, 8, 16}) {
                x = e.convolution(x, numbered(layer++), in, out, 3, 1, 1, true);
                x = e.inside(numbered(layer++), [&] { return e.node("Relu", {x}); });
                x = e.inside(numbered(layer++), [&] { return e.max_pooling(x, 2, 2); });
                in = out;
            }
            return x;
        });
        return x;
    }
    std::string plain_features(const std::string& map) {
        return e.inside("classifier", [&] {
            const std::int64_t places = size_ / 8 * (size_ / 8);
            const std::string x = e.dense(e.flatten(map), "0", 16 * places, 24, false);
            return e.inside("1", [&] { return e.node("Relu", {x}); });
        });
    }

    std::string residual() {
        std::string x = e.convolution_block(e.input(), "stem", 3, 8, 3, 2, 1, "Relu");
        std::int64_t in = 8;
        for (int stage = 1; stage <= 2; ++stage)
            x = e.inside(fmt::format("layer{}", stage), [&] {
                for (int block = 0; block < 2; ++block)
                    x = e.inside(numbered(block), [&] {
                        const std::int64_t out = 8 * stage;
                        const std::int64_t stride = stage == 2 && block == 0 ? 2 : 1;
                        std::string y = e.convolution(x, "conv1", in, out, 3, stride);
                        y = e.activation(e.batch_normalisation(y, "bn1", out), "Relu");
                        y = e.batch_normalisation(e.convolution(y, "conv2", out, out, 3), "bn2", out);
                        std::string around = x;
                        if (in != out)
                            around = e.inside("downsample", [&] {
                                return e.batch_normalisation(e.convolution(x, "0", in, out, 1, stride), "1",
                                                             out);
                            });
                        in = out;
                        return e.activation(e.node("Add", {y, around}), "Relu");
                    });
                return x;
            });
        return x;
    }

    std::string densely_connected() {
        std::string x = e.inside("features", [&] {
            std::string y = e.convolution(e.input(), "conv0", 3, 8, 3, 2);
            std::int64_t in = 8;
            for (int block = 1; block <= 2; ++block) {
                y = e.inside(fmt::format("denseblock{}", block), [&] {
                    for (int layer = 1; layer <= 2; ++layer)
                        y = e.inside(fmt::format("denselayer{}", layer), [&] {
                            std::string z = e.activation(e.batch_normalisation(y, "norm1", in), "Relu");
                            z = e.convolution(z, "conv1", in, 16, 1);
                            z = e.activation(e.batch_normalisation(z, "norm2", 16), "Relu");
                            z = e.convolution(z, "conv2", 16, 4, 3);
                            in += 4;
                            return e.node("Concat", {y, z}, {attribute("axis", std::int64_t{1})});
                        });
                    return y;
                });
                if (block == 2) break;
                y = e.inside("transition1", [&] {
                    std::string z = e.activation(e.batch_normalisation(y, "norm", in), "Relu");
                    z = e.convolution(z, "conv", in, 8, 1);
                    in = 8;
                    return e.node(
                        "AveragePool", {z},
                        {attribute("kernel_shape", Integers{2, 2}), attribute("strides", Integers{2, 2})});
                });
            }
            return e.batch_normalisation(y, "norm5", in);
        });
        return e.node("Relu", {x});
    }

    std::string inverted_residual() {
        std::string x = e.inside("features", [&] {
            std::string y = e.convolution_block(e.input(), "0", 3, 8, 3, 2, 1, "HardSwish");
            std::int64_t in = 8;
            int place = 1;
            for (const std::int64_t stride : {1, 2, 1})
                y = e.inside(numbered(place++), [&] {
                    const std::int64_t wide = 2 * in;
                    const std::int64_t out = stride == 2 ? 12 : in;
                    std::string z = e.convolution_block(y, "expand", in, wide, 1, 1, 1, "HardSwish");
                    z = e.convolution_block(z, "depthwise", wide, wide, 3, stride, wide, "HardSwish");
                    z = e.inside("se", [&] {
                        std::string gate = e.global_average(z);
                        gate = e.activation(e.convolution(gate, "fc1", wide, 4, 1, 1, 1, true), "Relu");
                        gate = e.convolution(gate, "fc2", 4, wide, 1, 1, 1, true);
                        gate = e.node("HardSigmoid", {gate}, {attribute("alpha", 1.0F / 6.0F)});
                        return e.node("Mul", {gate, z});
                    });
                    z = e.convolution_block(z, "project", wide, out, 1, 1, 1, "");
                    const bool around = stride == 1;
                    in = out;
                    return around ? e.node("Add", {y, z}) : z;
                });
            return e.convolution_block(y, numbered(place), in, 20, 1, 1, 1, "HardSwish");
        });
        return x;
    }

    static constexpr std::int64_t width = 16;
    static constexpr std::int64_t heads = 2;

    std::string attention(const std::string& x, std::int64_t tokens,
                          const std::function<std::string(std::string)>& bias) {
        constexpr std::int64_t depth = width / heads;
        const Values parts = e.split(e.dense(x, "qkv", width, 3 * width, true), 2, {width, width, width});
        Values turned;
        for (const std::string& part : parts)
            turned.push_back(e.transpose(e.reshape(part, {-1, tokens, heads, depth}), {0, 2, 1, 3}));
        std::string scores = e.node("MatMul", {turned[0], e.transpose(turned[1], {0, 1, 3, 2})});
        scores = e.node("Mul", {scores, e.number(1.0F / std::sqrt(static_cast<float>(depth)))});
        if (bias) scores = bias(scores);
        const std::string mixed = e.node("MatMul", {e.softmax(scores), turned[2]});
        const std::string joined = e.reshape(e.transpose(mixed, {0, 2, 1, 3}), {-1, tokens, width});
        return e.dense(joined, "proj", width, width, true);
    }
    std::string perceptron(const std::string& x, std::int64_t in, std::int64_t hidden) {
        return e.dense(e.gelu(e.dense(x, "fc1", in, hidden, true)), "fc2", hidden, in, true);
    }
    std::string patches(std::int64_t patch) {
        const std::string map = e.inside(
            "patch_embed", [&] { return e.convolution(e.input(), "proj", 3, width, patch, patch, 1, true); });
        const std::int64_t tokens = size_ / patch * (size_ / patch);
        return e.transpose(e.reshape(map, {-1, width, tokens}), {0, 2, 1});
    }

    std::string transformer() {
        const std::int64_t tokens = size_ / 8 * (size_ / 8) + 1;
        std::string x = patches(8);
        // The class token, once for each image.
        const std::string shape = e.node("Shape", {x});
        const std::string batch =
            e.node("Gather", {shape, e.integers({0})}, {attribute("axis", std::int64_t{0})});
        const std::string target =
            e.node("Concat", {batch, e.integers({1, width})}, {attribute("axis", std::int64_t{0})});
        const std::string token = e.node("Expand", {e.weight("cls_token", {1, 1, width}, 0.3), target});
        x = e.node("Concat", {token, x}, {attribute("axis", std::int64_t{1})});
        x = e.node("Add", {x, e.weight("pos_embed", {1, tokens, width}, 0.3)});
        e.inside("blocks", [&] {
            for (int block = 0; block < 2; ++block)
                x = e.inside(numbered(block), [&] {
                    const std::string mixed = e.inside("attn", [&] {
                        return attention(e.layer_normalisation(x, "norm1", width), tokens, {});
                    });
                    x = e.node("Add", {x, mixed});
                    const std::string wide = e.inside("mlp", [&] {
                        return perceptron(e.layer_normalisation(x, "norm2", width), width, 2 * width);
                    });
                    return e.node("Add", {x, wide});
                });
            return x;
        });
        return e.layer_normalisation(x, "norm", width);
    }
    std::string class_token(const std::string& tokens) {
        return e.node("Gather", {tokens, e.integer(0)}, {attribute("axis", std::int64_t{1})});
    }

    // Windows of 4 x 4 tokens, in every second block moved by two; biases by relative position.
    std::string windowed_transformer() {
        const std::int64_t side = size_ / 4;
        const std::int64_t window = 4;
        const std::int64_t windows = side / window;
        const std::int64_t tokens = window * window;
        std::string x = e.layer_normalisation(patches(4), "patch_norm", width);
        e.inside("layers", [&] {
            for (int block = 0; block < 2; ++block)
                x = e.inside(numbered(block), [&] {
                    std::string y = e.layer_normalisation(x, "norm1", width);
                    y = e.reshape(y, {-1, side, side, width});
                    const auto rolled = [&](std::string map, std::int64_t by) {
                        for (const std::int64_t axis : {1, 2}) {
                            const std::int64_t cut = by > 0 ? by : side + by;
                            map =
                                e.node("Concat", {e.slice(map, axis, cut, side), e.slice(map, axis, 0, cut)},
                                       {attribute("axis", axis)});
                        }
                        return map;
                    };
                    if (block == 1) y = rolled(y, window / 2);
                    y = e.transpose(e.reshape(y, {-1, windows, window, windows, window, width}),
                                    {0, 1, 3, 2, 4, 5});
                    y = e.reshape(y, {-1, tokens, width});
                    y = e.inside("attn", [&] {
                        const std::string table = e.weight("relative_position_bias_table",
                                                           {(2 * window - 1) * (2 * window - 1), heads}, 0.3);
                        Integers index;
                        for (std::int64_t a = 0; a < tokens; ++a)
                            for (std::int64_t b = 0; b < tokens; ++b)
                                index.push_back((a / window - b / window + window - 1) * (2 * window - 1) +
                                                a % window - b % window + window - 1);
                        std::string bias = e.node("Gather", {table, e.integers(index)},
                                                  {attribute("axis", std::int64_t{0})});
                        bias = e.transpose(e.reshape(bias, {tokens, tokens, heads}), {2, 0, 1});
                        bias = unsqueezed(bias);
                        return attention(y, tokens, [&](const std::string& scores) {
                            return e.node("Add", {scores, bias});
                        });
                    });
                    y = e.transpose(e.reshape(y, {-1, windows, windows, window, window, width}),
                                    {0, 1, 3, 2, 4, 5});
                    y = e.reshape(y, {-1, side, side, width});
                    if (block == 1) y = rolled(y, -window / 2);
                    x = e.node("Add", {x, e.reshape(y, {-1, side * side, width})});
                    const std::string wide = e.inside("mlp", [&] {
                        return perceptron(e.layer_normalisation(x, "norm2", width), width, 2 * width);
                    });
                    return e.node("Add", {x, wide});
                });
            return x;
        });
        return e.layer_normalisation(x, "norm", width);
    }
    std::string unsqueezed(const std::string& x) {
        if (e.opset() < 13) return e.node("Unsqueeze", {x}, {attribute("axes", Integers{0})});
        return e.node("Unsqueeze", {x, e.integers({0})});
    }

    std::string mixer() {
        const std::int64_t tokens = size_ / 8 * (size_ / 8);
        std::string x = patches(8);
        e.inside("blocks", [&] {
            for (int block = 0; block < 2; ++block)
                x = e.inside(numbered(block), [&] {
                    std::string y = e.transpose(e.layer_normalisation(x, "norm1", width), {0, 2, 1});
                    y = e.inside("mlp_tokens", [&] { return perceptron(y, tokens, 12); });
                    x = e.node("Add", {x, e.transpose(y, {0, 2, 1})});
                    y = e.layer_normalisation(x, "norm2", width);
                    y = e.inside("mlp_channels", [&] { return perceptron(y, width, 2 * width); });
                    return e.node("Add", {x, y});
                });
            return x;
        });
        return e.layer_normalisation(x, "norm", width);
    }

    std::string large_kernel() {
        std::string x =
            e.inside("stem", [&] { return e.convolution(e.input(), "0", 3, width, 4, 4, 1, true); });
        e.inside("stages", [&] {
            for (int stage = 0; stage < 2; ++stage)
                x = e.inside(numbered(stage), [&] {
                    const std::int64_t channels = width;
                    if (stage > 0)
                        x = e.inside("downsample", [&] {
                            std::string y = e.transpose(x, {0, 2, 3, 1});
                            y = e.transpose(e.layer_normalisation(y, "0", channels), {0, 3, 1, 2});
                            return e.convolution(y, "1", channels, channels, 2, 2, 1, true);
                        });
                    return e.inside("block", [&] {
                        std::string y = e.convolution(x, "dwconv", channels, channels, 7, 1, channels, true);
                        y = e.layer_normalisation(e.transpose(y, {0, 2, 3, 1}), "norm", channels);
                        y = e.dense(e.gelu(e.dense(y, "pwconv1", channels, 2 * channels, true)), "pwconv2",
                                    2 * channels, channels, true);
                        y = e.node("Mul", {e.weight("gamma", {channels}, 0.1, 0.5), y});
                        return e.node("Add", {x, e.transpose(y, {0, 3, 1, 2})});
                    });
                });
            return x;
        });
        return x;
    }

    Exporter& e;

  private:
    std::int64_t size_;
};

}  // namespace

std::int64_t feature_width(ExportedFamily family) {
    switch (family) {
        case ExportedFamily::plain:
            return 24;
        case ExportedFamily::inverted_residual:
            return 20;
        default:
            return 16;
    }
}

void write_exported_model(const std::filesystem::path& file, const ExportSettings& settings) {
    Exporter e(settings.style, settings.opset, settings.size);
    Family family(e, settings.size);
    std::string values;
    std::function<std::string()> features = [&] { return e.flatten(e.global_average(values)); };
    switch (settings.family) {
        case ExportedFamily::plain:
            values = family.plain();
            features = [&] { return family.plain_features(values); };
            break;
        case ExportedFamily::residual:
            values = family.residual();
            break;
        case ExportedFamily::densely_connected:
            values = family.densely_connected();
            break;
        case ExportedFamily::inverted_residual:
            values = family.inverted_residual();
            break;
        case ExportedFamily::transformer:
            values = family.transformer();
            features = [&] { return family.class_token(values); };
            break;
        case ExportedFamily::windowed_transformer:
            values = family.windowed_transformer();
            features = [&] { return e.mean(values, {1}, false); };
            break;
        case ExportedFamily::mixer:
            values = family.mixer();
            features = [&] { return e.mean(values, {1}, false); };
            break;
        case ExportedFamily::large_kernel:
            values = family.large_kernel();
            features = [&] {
                return e.layer_normalisation(e.mean(values, {-2, -1}, false), "norm", Family::width);
            };
            break;
    }
    std::string output = values;
    if (settings.end != ExportedEnd::values) output = features();
    if (settings.end == ExportedEnd::classes) {
        const std::string name = settings.family == ExportedFamily::plain ? "classifier" : "fc";
        if (name == "fc")
            output = e.dense(output, name, feature_width(settings.family), 7, false);
        else
            output = e.inside(name,
                              [&] { return e.dense(output, "3", feature_width(settings.family), 7, false); });
    }
    write_file(file, e.finish(output));
}

}  // namespace jevrin::test
