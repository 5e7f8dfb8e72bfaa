#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/network/model_file.hpp"

#include <fmt/format.h>
#include <onnx/onnx_pb.h>

namespace jevrin {
namespace {

constexpr int opset_written = 13;
constexpr int ir_version_written = 7;

bool is_sum(const Operator& op) {
    const auto* arithmetic = std::get_if<Arithmetic>(&op);
    return arithmetic != nullptr && arithmetic->kind == ArithmeticKind::add;
}

class Writer {
  public:
    explicit Writer(const Network& network) : network_(network), shapes_(infer_shapes(network)) {}

    void write(onnx::GraphProto& graph) {
        graph_ = &graph;
        graph.set_name("classifier");
        describe(*graph.add_input(), value_name(0), network_.input);
        for (std::size_t i = 1; i < network_.nodes.size(); ++i) write_node(i);
        describe(*graph.add_output(), value_name(network_.nodes.size() - 1), shapes_.back());
    }

  private:
    std::string value_name(std::size_t node) const { return network_.nodes[node].name; }

    static void describe(onnx::ValueInfoProto& info, const std::string& name, const Shape& shape) {
        info.set_name(name);
        auto& type = *info.mutable_type()->mutable_tensor_type();
        type.set_elem_type(onnx::TensorProto::FLOAT);
        type.mutable_shape()->add_dim()->set_dim_param("batch");
        const Shape first = shape.size() == 3 ? Shape{shape[2], shape[0], shape[1]} : shape;
        for (const std::int64_t dimension : first) type.mutable_shape()->add_dim()->set_dim_value(dimension);
    }

    onnx::NodeProto& add(const std::string& type, std::size_t node) {
        onnx::NodeProto& proto = *graph_->add_node();
        proto.set_op_type(type);
        proto.set_name(network_.nodes[node].name);
        for (const std::size_t input : network_.nodes[node].inputs) proto.add_input(value_name(input));
        proto.add_output(value_name(node));
        return proto;
    }

    void add_weight(onnx::NodeProto& proto, const std::string& role, const Shape& shape,
                    std::span<const float> values) {
        onnx::TensorProto& tensor = *graph_->add_initializer();
        tensor.set_name(proto.name() + ":" + role);
        tensor.set_data_type(onnx::TensorProto::FLOAT);
        for (const std::int64_t dimension : shape) tensor.add_dims(dimension);
        tensor.set_raw_data(values.data(), values.size_bytes());
        proto.add_input(tensor.name());
    }

    static void set_ints(onnx::NodeProto& proto, const std::string& name,
                         std::initializer_list<std::int64_t> values) {
        onnx::AttributeProto& attribute = *proto.add_attribute();
        attribute.set_name(name);
        attribute.set_type(onnx::AttributeProto::INTS);
        for (const std::int64_t value : values) attribute.add_ints(value);
    }
    static void set_int(onnx::NodeProto& proto, const std::string& name, std::int64_t value) {
        onnx::AttributeProto& attribute = *proto.add_attribute();
        attribute.set_name(name);
        attribute.set_type(onnx::AttributeProto::INT);
        attribute.set_i(value);
    }
    static void set_float(onnx::NodeProto& proto, const std::string& name, float value) {
        onnx::AttributeProto& attribute = *proto.add_attribute();
        attribute.set_name(name);
        attribute.set_type(onnx::AttributeProto::FLOAT);
        attribute.set_f(value);
    }
    static void set_window(onnx::NodeProto& proto, const Window& w) {
        set_ints(proto, "kernel_shape", {w.kernel_height, w.kernel_width});
        set_ints(proto, "strides", {w.stride_height, w.stride_width});
        set_ints(proto, "pads", {w.pad_top, w.pad_left, w.pad_bottom, w.pad_right});
        if (w.dilation_height != 1 || w.dilation_width != 1)
            set_ints(proto, "dilations", {w.dilation_height, w.dilation_width});
        if (w.round_up) set_int(proto, "ceil_mode", 1);
    }

    void write_node(std::size_t i) {
        const Node& node = network_.nodes[i];
        if (const auto* convolution = std::get_if<Convolution>(&node.op)) {
            onnx::NodeProto& proto = add("Conv", i);
            set_window(proto, convolution->window);
            if (convolution->groups != 1) set_int(proto, "group", convolution->groups);
            const Tensor& w = node.parameters[0];
            const Shape& s = w.shape();
            Tensor first({s[3], s[2], s[0], s[1]});
            for (std::int64_t tap = 0; tap < s[0] * s[1]; ++tap)
                for (std::int64_t in = 0; in < s[2]; ++in)
                    for (std::int64_t out = 0; out < s[3]; ++out)
                        first.data()[(out * s[2] + in) * s[0] * s[1] + tap] =
                            w.data()[(tap * s[2] + in) * s[3] + out];
            add_weight(proto, "weight", first.shape(), first.values());
            if (node.parameters.size() > 1)
                add_weight(proto, "bias", node.parameters[1].shape(), node.parameters[1].values());
        } else if (const auto* normalisation = std::get_if<BatchNormalisation>(&node.op)) {
            onnx::NodeProto& proto = add("BatchNormalization", i);
            set_float(proto, "epsilon", normalisation->epsilon);
            set_float(proto, "momentum", 1.0F - normalisation->momentum);
            const char* const roles[] = {"scale", "shift", "mean", "variance"};
            for (std::size_t p = 0; p < 4; ++p)
                add_weight(proto, roles[p], node.parameters[p].shape(), node.parameters[p].values());
        } else if (is_activation(node.op, FunctionKind::relu)) {
            add("Relu", i);
        } else if (const auto* max = std::get_if<MaxPooling>(&node.op)) {
            set_window(add("MaxPool", i), max->window);
        } else if (const auto* average = std::get_if<AveragePooling>(&node.op)) {
            onnx::NodeProto& proto = add("AveragePool", i);
            set_window(proto, average->window);
            set_int(proto, "count_include_pad", average->count_padding ? 1 : 0);
        } else if (std::holds_alternative<GlobalAveragePooling>(node.op)) {
            add("GlobalAveragePool", i);
        } else if (std::holds_alternative<Flatten>(node.op)) {
            set_int(add("Flatten", i), "axis", 1);
        } else if (std::holds_alternative<Dense>(node.op)) {
            onnx::NodeProto& proto = add("Gemm", i);
            add_weight(proto, "weight", node.parameters[0].shape(), node.parameters[0].values());
            if (node.parameters.size() > 1)
                add_weight(proto, "bias", node.parameters[1].shape(), node.parameters[1].values());
        } else if (is_sum(node.op)) {
            add("Add", i);
        } else if (const auto* dropout = std::get_if<Dropout>(&node.op)) {
            onnx::NodeProto& proto = add("Dropout", i);
            const auto rate = static_cast<float>(dropout->rate);
            add_weight(proto, "rate", {}, {&rate, 1});
        } else {
            throw InputError(fmt::format("layer '{}' ({}) cannot be written to a model file",
                                         printable(node.name), operator_name(node.op)));
        }
    }

    const Network& network_;
    std::vector<Shape> shapes_;
    onnx::GraphProto* graph_ = nullptr;
};

}  // namespace

void write_model(const std::filesystem::path& path, const Model& model) {
    onnx::ModelProto proto;
    proto.set_ir_version(ir_version_written);
    proto.set_producer_name("jevrin");
    proto.set_producer_version(JEVRIN_VERSION);
    proto.add_opset_import()->set_version(opset_written);
    Writer(model.network).write(*proto.mutable_graph());
    for (const auto& [key, value] : model.metadata) {
        auto& entry = *proto.add_metadata_props();
        entry.set_key(key);
        entry.set_value(value);
    }
    std::string bytes;
    if (!proto.SerializeToString(&bytes))
        throw WorkError(
            fmt::format("{}: the model is too large for one file (2 GB)", printable(path.string())));
    write_file(path, bytes);
}

}  // namespace jevrin
