#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/model_file.hpp"

#include <fmt/format.h>
#include <onnx/onnx_pb.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numbers>
#include <numeric>
#include <set>

namespace jevrin {
namespace {

constexpr int opset_written = 17;
constexpr int ir_version_written = 8;

// How a value lies in the file: as in memory, or as an image with its channels first.
enum class Layout { plain, channels_first };

// Where a dimension of [height, width, channels] is in [channels, height, width].
std::int64_t first_axis(std::int64_t axis) {
    return (axis + 1) % 3;
}

class Writer {
  public:
    explicit Writer(const Network& network) : network_(network), shapes_(infer_shapes(network)) {
        for (const Node& node : network.nodes) names_.insert(node.name);
    }

    void write(onnx::GraphProto& graph) {
        graph_ = &graph;
        graph.set_name("classifier");
        layouts_.assign(network_.nodes.size(), Layout::plain);
        layouts_[0] = network_.input.size() == 3 ? Layout::channels_first : Layout::plain;
        describe(*graph.add_input(), 0);
        for (std::size_t i = 1; i < network_.nodes.size(); ++i) write_node(i);
        const std::size_t last = network_.nodes.size() - 1;
        // An image at the end has its channels first, like one at the beginning.
        if (shapes_[last].size() == 3 && layouts_[last] == Layout::plain) {
            const std::string turned = as(last, Layout::channels_first);
            layouts_[last] = Layout::channels_first;
            describe(*graph.add_output(), last);
            graph.mutable_output(0)->set_name(turned);
        } else {
            describe(*graph.add_output(), last);
        }
    }

  private:
    const std::string& name(std::size_t node) const { return network_.nodes[node].name; }

    Shape file_shape(std::size_t node, Layout layout) const {
        const Shape& s = shapes_[node];
        return layout == Layout::channels_first ? Shape{s[2], s[0], s[1]} : s;
    }

    void describe(onnx::ValueInfoProto& info, std::size_t node) const {
        info.set_name(name(node));
        auto& type = *info.mutable_type()->mutable_tensor_type();
        type.set_elem_type(onnx::TensorProto::FLOAT);
        type.mutable_shape()->add_dim()->set_dim_param("batch");
        for (const std::int64_t size : file_shape(node, layouts_[node]))
            type.mutable_shape()->add_dim()->set_dim_value(size);
    }

    // A name for a value beside those of the network.
    std::string fresh(const std::string& base) {
        std::string free = base;
        for (int i = 2; !names_.insert(free).second; ++i) free = fmt::format("{}#{}", base, i);
        return free;
    }

    onnx::NodeProto& add(const std::string& type, const std::string& called,
                         const std::vector<std::string>& inputs) {
        onnx::NodeProto& proto = *graph_->add_node();
        proto.set_op_type(type);
        proto.set_name(called);
        for (const std::string& input : inputs) proto.add_input(input);
        proto.add_output(called);
        return proto;
    }
    // A step on the way to a node, under a name of its own.
    onnx::NodeProto& add_step(const std::string& type, std::size_t node, const std::string& role,
                              const std::vector<std::string>& inputs) {
        return add(type, fresh(name(node) + ":" + role), inputs);
    }

    static void fill(onnx::TensorProto& tensor, const std::string& called, const Shape& shape,
                     std::span<const float> values) {
        tensor.set_name(called);
        tensor.set_data_type(onnx::TensorProto::FLOAT);
        for (const std::int64_t size : shape) tensor.add_dims(size);
        tensor.set_raw_data(values.data(), values.size_bytes());
    }
    std::string add_weight(const std::string& called, const Shape& shape, std::span<const float> values) {
        const std::string free = fresh(called);
        fill(*graph_->add_initializer(), free, shape, values);
        return free;
    }
    std::string add_integers(const std::string& called, const std::vector<std::int64_t>& values) {
        onnx::TensorProto& tensor = *graph_->add_initializer();
        tensor.set_name(fresh(called));
        tensor.set_data_type(onnx::TensorProto::INT64);
        tensor.add_dims(std::ssize(values));
        for (const std::int64_t value : values) tensor.add_int64_data(value);
        return tensor.name();
    }
    std::string add_number(std::size_t node, const std::string& role, float value) {
        onnx::NodeProto& proto = add_step("Constant", node, role, {});
        onnx::AttributeProto& attribute = *proto.add_attribute();
        attribute.set_name("value");
        attribute.set_type(onnx::AttributeProto::TENSOR);
        fill(*attribute.mutable_t(), proto.name(), {}, {&value, 1});
        return proto.name();
    }

    static void set_ints(onnx::NodeProto& proto, const std::string& called,
                         const std::vector<std::int64_t>& values) {
        onnx::AttributeProto& attribute = *proto.add_attribute();
        attribute.set_name(called);
        attribute.set_type(onnx::AttributeProto::INTS);
        for (const std::int64_t value : values) attribute.add_ints(value);
    }
    static void set_int(onnx::NodeProto& proto, const std::string& called, std::int64_t value) {
        onnx::AttributeProto& attribute = *proto.add_attribute();
        attribute.set_name(called);
        attribute.set_type(onnx::AttributeProto::INT);
        attribute.set_i(value);
    }
    static void set_float(onnx::NodeProto& proto, const std::string& called, float value) {
        onnx::AttributeProto& attribute = *proto.add_attribute();
        attribute.set_name(called);
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

    // The name of a node's value in a layout; a transposition is written when it lies otherwise.
    std::string as(std::size_t node, Layout wanted) {
        if (shapes_[node].size() != 3 || layouts_[node] == wanted) return batched(node);
        std::string& turned = turned_[node];
        if (!turned.empty()) return turned;
        const std::string from = batched(node);
        onnx::NodeProto& proto = add_step("Transpose", node, "layout", {from});
        const bool to_first = wanted == Layout::channels_first;
        set_ints(proto, "perm",
                 to_first ? std::vector<std::int64_t>{0, 3, 1, 2} : std::vector<std::int64_t>{0, 2, 3, 1});
        turned = proto.name();
        return turned;
    }

    // A constant is one item in the file; where each image needs one of its own it is repeated.
    std::string batched(std::size_t node) {
        if (!is_constant(node)) return name(node);
        std::string& repeated = repeated_[node];
        if (!repeated.empty()) return repeated;
        if (batch_.empty()) {
            add("Shape", fresh("batch:shape"), {name(0)});
            const std::string shape = graph_->node(graph_->node_size() - 1).name();
            batch_ = add("Slice", fresh("batch:size"),
                         {shape, add_integers("batch:start", {0}), add_integers("batch:end", {1})})
                         .name();
        }
        std::vector<std::int64_t> item(shapes_[node].begin(), shapes_[node].end());
        const std::string target =
            add_step("Concat", node, "batch_shape", {batch_, add_integers(name(node) + ":item_shape", item)})
                .name();
        set_int(*graph_->mutable_node(graph_->node_size() - 1), "axis", 0);
        repeated = add_step("Expand", node, "batch", {name(node), target}).name();
        return repeated;
    }

    bool is_constant(std::size_t node) const {
        return std::holds_alternative<Constant>(network_.nodes[node].op);
    }
    // Whether a value may keep its channels first for an operator that works on any layout.
    bool is_first(std::size_t node) const { return layouts_[node] == Layout::channels_first; }
    std::int64_t file_axis(std::size_t node, std::int64_t axis, Layout layout) const {
        return 1 + (layout == Layout::channels_first && shapes_[node].size() == 3 ? first_axis(axis) : axis);
    }

    onnx::NodeProto& add_same_layout(const std::string& type, std::size_t i) {
        const std::size_t input = network_.nodes[i].inputs[0];
        layouts_[i] = layouts_[input];
        return add(type, name(i), {batched(input)});
    }
    onnx::NodeProto& add_image(const std::string& type, std::size_t i) {
        layouts_[i] = Layout::channels_first;
        return add(type, name(i), {as(network_.nodes[i].inputs[0], Layout::channels_first)});
    }
    onnx::NodeProto& add_plain(const std::string& type, std::size_t i) {
        std::vector<std::string> inputs;
        for (const std::size_t input : network_.nodes[i].inputs) inputs.push_back(as(input, Layout::plain));
        return add(type, name(i), inputs);
    }
    void add_parameter(onnx::NodeProto& proto, std::size_t i, std::size_t p, const std::string& role) {
        const Tensor& tensor = network_.nodes[i].parameters[p];
        proto.add_input(add_weight(name(i) + ":" + role, tensor.shape(), tensor.values()));
    }

    void write_node(std::size_t i) {
        std::visit([&](const auto& op) { write(i, op); }, network_.nodes[i].op);
    }

    void write(std::size_t i, const Input&) { refuse(i); }
    [[noreturn]] void refuse(std::size_t i) const {
        throw InputError(fmt::format("layer '{}' ({}) cannot be written to a model file", printable(name(i)),
                                     operator_name(network_.nodes[i].op)));
    }

    void write(std::size_t i, const Constant& op) {
        const Tensor& tensor = network_.nodes[i].parameters[0];
        if (op.trained) {
            fill(*graph_->add_initializer(), name(i), tensor.shape(), tensor.values());
            return;
        }
        onnx::AttributeProto& attribute = *add("Constant", name(i), {}).add_attribute();
        attribute.set_name("value");
        attribute.set_type(onnx::AttributeProto::TENSOR);
        fill(*attribute.mutable_t(), name(i), tensor.shape(), tensor.values());
    }

    void write(std::size_t i, const Convolution& op) {
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
        if (node.parameters.size() > 1) add_parameter(proto, i, 1, "bias");
    }

    // Channels are the second dimension in the file: images turn to channels-first, rows of tokens on their
    // side and back.
    template <typename WriteOn>
    void write_by_channels(std::size_t i, WriteOn write_on) {
        const std::size_t input = network_.nodes[i].inputs[0];
        if (shapes_[i].size() == 3) {
            layouts_[i] = Layout::channels_first;
            write_on(as(input, Layout::channels_first), name(i));
        } else if (shapes_[i].size() == 1) {
            write_on(batched(input), name(i));
        } else {
            std::vector<std::int64_t> to(shapes_[i].size() + 1);
            std::iota(to.begin(), to.end(), std::int64_t{0});
            std::vector<std::int64_t> back = to;
            std::rotate(to.begin() + 1, to.end() - 1, to.end());
            std::rotate(back.begin() + 1, back.begin() + 2, back.end());
            onnx::NodeProto& turned = add_step("Transpose", i, "layout", {batched(input)});
            set_ints(turned, "perm", to);
            const std::string normalised = fresh(name(i) + ":turned");
            write_on(turned.name(), normalised);
            set_ints(add("Transpose", name(i), {normalised}), "perm", back);
        }
    }

    void write(std::size_t i, const BatchNormalisation& op) {
        write_by_channels(i, [&](const std::string& input, const std::string& called) {
            onnx::NodeProto& proto = add("BatchNormalization", called, {input});
            set_float(proto, "epsilon", op.epsilon);
            set_float(proto, "momentum", 1.0F - op.momentum);
            const char* const roles[] = {"scale", "shift", "mean", "variance"};
            for (std::size_t p = 0; p < 4; ++p) add_parameter(proto, i, p, roles[p]);
        });
    }

    // In groups: each group is normalised as one channel, then scaled and shifted by channel.
    void write(std::size_t i, const GroupNormalisation& op) {
        write_by_channels(i, [&](const std::string& input, const std::string& called) {
            const Node& node = network_.nodes[i];
            const std::int64_t channels = shapes_[i].back();
            if (op.groups == channels && shapes_[i].size() > 1) {
                onnx::NodeProto& proto = add("InstanceNormalization", called, {input});
                set_float(proto, "epsilon", op.epsilon);
                add_parameter(proto, i, 0, "scale");
                add_parameter(proto, i, 1, "shift");
                return;
            }
            const std::string cut =
                add_step("Reshape", i, "groups",
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
            const std::string back = add_step("Reshape", i, "whole",
                                              {normal.name(), add_integers(name(i) + ":whole_shape", whole)})
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

    void write(std::size_t i, const LayerNormalisation& op) {
        onnx::NodeProto& proto = add_plain("LayerNormalization", i);
        set_int(proto, "axis", -std::ssize(network_.nodes[i].parameters[0].shape()));
        set_float(proto, "epsilon", op.epsilon);
        add_parameter(proto, i, 0, "scale");
        add_parameter(proto, i, 1, "shift");
    }

    void write(std::size_t i, const Activation& op) {
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

    void write(std::size_t i, const ParametricRelu&) {
        const Tensor& slope = network_.nodes[i].parameters[0];
        onnx::NodeProto& proto = add_same_layout("PRelu", i);
        const bool turned = is_first(i) && slope.size() > 1;
        proto.add_input(add_weight(name(i) + ":slope",
                                   turned ? Shape{slope.size(), 1, 1} : Shape{slope.size()}, slope.values()));
    }

    void write(std::size_t i, const MaxPooling& op) { set_window(add_image("MaxPool", i), op.window); }
    void write(std::size_t i, const AveragePooling& op) {
        onnx::NodeProto& proto = add_image("AveragePool", i);
        set_window(proto, op.window);
        set_int(proto, "count_include_pad", op.count_padding ? 1 : 0);
    }
    void write(std::size_t i, const GlobalAveragePooling&) { add_image("GlobalAveragePool", i); }

    void write(std::size_t i, const Reduction& op) {
        const std::size_t input = network_.nodes[i].inputs[0];
        const char* const type = op.kind == ReductionKind::mean  ? "ReduceMean"
                                 : op.kind == ReductionKind::sum ? "ReduceSum"
                                                                 : "ReduceMax";
        // What is left of an image keeps its channels first only if all dimensions are kept.
        const bool first = is_first(input) && op.keep_dimensions;
        const Layout layout = first ? Layout::channels_first : Layout::plain;
        layouts_[i] = layout;
        std::vector<std::int64_t> axes;
        for (const std::int64_t axis : op.axes) axes.push_back(file_axis(input, axis, layout));
        onnx::NodeProto& proto = add(type, name(i), {as(input, layout)});
        set_int(proto, "keepdims", op.keep_dimensions ? 1 : 0);
        if (op.kind == ReductionKind::sum)
            proto.add_input(add_integers(name(i) + ":axes", axes));
        else
            set_ints(proto, "axes", axes);
    }

    void write(std::size_t i, const Softmax& op) {
        onnx::NodeProto& proto = add_same_layout(op.logarithm ? "LogSoftmax" : "Softmax", i);
        set_int(proto, "axis", file_axis(i, op.axis, layouts_[i]));
    }

    void write(std::size_t i, const Arithmetic& op) {
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
                value = add_step("Reshape", i, "wide", {value, add_integers(name(i) + ":wide_shape", wide)})
                            .name();
            }
            names.push_back(value);
        }
        if (is_constant(inputs[0]) && is_constant(inputs[1])) names[0] = batched(inputs[0]);
        add(types.at(op.kind), name(i), names);
    }

    void write(std::size_t i, const MatrixProduct&) {
        std::vector<std::string> inputs;
        for (const std::size_t input : network_.nodes[i].inputs)
            inputs.push_back(is_constant(input) ? name(input) : as(input, Layout::plain));
        add("MatMul", name(i), inputs);
    }

    void write(std::size_t i, const Dense&) {
        const Node& node = network_.nodes[i];
        if (shapes_[i].size() == 1) {
            onnx::NodeProto& proto = add_plain("Gemm", i);
            add_parameter(proto, i, 0, "weight");
            if (node.parameters.size() > 1) add_parameter(proto, i, 1, "bias");
            return;
        }
        const bool biased = node.parameters.size() > 1;
        const std::string product = biased ? fresh(name(i) + ":product") : name(i);
        onnx::NodeProto& proto = add("MatMul", product, {as(node.inputs[0], Layout::plain)});
        add_parameter(proto, i, 0, "weight");
        if (biased) {
            onnx::NodeProto& sum = add("Add", name(i), {product});
            add_parameter(sum, i, 1, "bias");
        }
    }

    // The inputs of a node in the layout of most of them.
    Layout common_layout(std::size_t i) const {
        if (shapes_[i].size() != 3) return Layout::plain;
        for (const std::size_t input : network_.nodes[i].inputs)
            if (is_first(input)) return Layout::channels_first;
        return Layout::plain;
    }

    void write(std::size_t i, const Concatenate& op) {
        const Layout layout = common_layout(i);
        layouts_[i] = layout;
        std::vector<std::string> inputs;
        for (const std::size_t input : network_.nodes[i].inputs) inputs.push_back(as(input, layout));
        set_int(add("Concat", name(i), inputs), "axis", file_axis(i, op.axis, layout));
    }

    void write(std::size_t i, const Slice& op) {
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

    void write(std::size_t i, const Padding& op) {
        const std::size_t input = network_.nodes[i].inputs[0];
        layouts_[i] = common_layout(i);
        const std::size_t rank = shapes_[i].size() + 1;
        std::vector<std::int64_t> pads(2 * rank, 0);
        for (std::size_t d = 0; d < op.before.size(); ++d) {
            const auto at =
                static_cast<std::size_t>(file_axis(input, static_cast<std::int64_t>(d), layouts_[i]));
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

    void write(std::size_t i, const Transpose& op) {
        std::vector<std::int64_t> permutation = {0};
        for (const std::int64_t d : op.permutation) permutation.push_back(d + 1);
        set_ints(add_plain("Transpose", i), "perm", permutation);
    }

    void write(std::size_t i, const Reshape& op) {
        std::vector<std::int64_t> shape = {0};
        shape.insert(shape.end(), op.shape.begin(), op.shape.end());
        add_plain("Reshape", i).add_input(add_integers(name(i) + ":shape", shape));
    }

    void write(std::size_t i, const Flatten&) {
        const std::size_t input = network_.nodes[i].inputs[0];
        const Layout layout = shapes_[input].size() == 3 ? Layout::channels_first : Layout::plain;
        set_int(add("Flatten", name(i), {as(input, layout)}), "axis", 1);
    }

    void write(std::size_t i, const Gather& op) {
        const std::size_t input = network_.nodes[i].inputs[0];
        layouts_[i] = common_layout(i);
        onnx::NodeProto& proto = add("Gather", name(i), {as(input, layouts_[i])});
        proto.add_input(add_integers(name(i) + ":places", op.places));
        set_int(proto, "axis", file_axis(input, op.axis, layouts_[i]));
    }

    void write(std::size_t i, const Dropout& op) {
        const auto rate = static_cast<float>(op.rate);
        onnx::NodeProto& proto = add_same_layout("Dropout", i);
        proto.add_input(add_weight(name(i) + ":rate", {}, {&rate, 1}));
    }

    const Network& network_;
    std::vector<Shape> shapes_;
    std::vector<Layout> layouts_;
    std::set<std::string> names_;
    std::map<std::size_t, std::string> turned_;
    std::map<std::size_t, std::string> repeated_;
    std::string batch_;
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
