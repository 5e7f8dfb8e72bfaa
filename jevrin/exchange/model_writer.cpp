#include "jevrin/exchange/model_writer.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/base/version.hpp"
#include "jevrin/exchange/graph_node.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/exchange/model_seal.hpp"
#include "jevrin/graph/operator_description.hpp"
#include "jevrin/graph/shared_parameters.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

constexpr int opset_written = 17;
constexpr int ir_version_written = 8;

}  // namespace

void ModelWriter::write(onnx::GraphProto& graph) {
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

Shape ModelWriter::file_shape(std::size_t node, Layout layout) const {
    const Shape& s = shapes_[node];
    return layout == Layout::channels_first ? Shape{s[2], s[0], s[1]} : s;
}

void ModelWriter::describe(onnx::ValueInfoProto& info, std::size_t node) const {
    info.set_name(name(node));
    auto& type = *info.mutable_type()->mutable_tensor_type();
    type.set_elem_type(onnx::TensorProto::FLOAT);
    type.mutable_shape()->add_dim()->set_dim_param("batch");
    for (const std::int64_t size : file_shape(node, layouts_[node]))
        type.mutable_shape()->add_dim()->set_dim_value(size);
}

std::string ModelWriter::fresh(const std::string& base) {
    std::string free = base;
    for (int i = 2; !names_.insert(free).second; ++i) free = fmt::format("{}#{}", base, i);
    return free;
}

onnx::NodeProto& ModelWriter::add(const std::string& type, const std::string& called,
                                  const std::vector<std::string>& inputs) {
    onnx::NodeProto& proto = *graph_->add_node();
    proto.set_op_type(type);
    proto.set_name(called);
    for (const std::string& input : inputs) proto.add_input(input);
    proto.add_output(called);
    return proto;
}

onnx::NodeProto& ModelWriter::add_step(const std::string& type, std::size_t node, const std::string& role,
                                       const std::vector<std::string>& inputs) {
    return add(type, fresh(name(node) + ":" + role), inputs);
}

void ModelWriter::fill(onnx::TensorProto& tensor, const std::string& called, const Shape& shape,
                       std::span<const float> values) {
    tensor.set_name(called);
    tensor.set_data_type(onnx::TensorProto::FLOAT);
    for (const std::int64_t size : shape) tensor.add_dims(size);
    tensor.set_raw_data(values.data(), values.size_bytes());
}

std::string ModelWriter::add_weight(const std::string& called, const Shape& shape,
                                    std::span<const float> values) {
    const std::string free = fresh(called);
    fill(*graph_->add_initializer(), free, shape, values);
    return free;
}

std::string ModelWriter::add_own_or_shared(std::size_t i, std::size_t p, const std::string& called,
                                           const Tensor& stored) {
    const Node& node = network_.nodes[i];
    const std::string& name = shared_name(node, p);
    if (const auto written = shared_.find(name); !name.empty() && written != shared_.end()) {
        const Node& first = network_.nodes[written->second.node];
        const Tensor& values = first.parameters[written->second.parameter];
        if (first.op.index() == node.op.index() &&
            std::ranges::equal(values.values(), node.parameters[p].values()))
            return written->second.name;
    }
    const std::string added = add_weight(called, stored.shape(), stored.values());
    if (!name.empty()) shared_.try_emplace(name, WrittenParameter{i, p, added});
    return added;
}

std::string ModelWriter::add_integers(const std::string& called, const std::vector<std::int64_t>& values) {
    onnx::TensorProto& tensor = *graph_->add_initializer();
    tensor.set_name(fresh(called));
    tensor.set_data_type(onnx::TensorProto::INT64);
    tensor.add_dims(std::ssize(values));
    for (const std::int64_t value : values) tensor.add_int64_data(value);
    return tensor.name();
}

std::string ModelWriter::add_number(std::size_t node, const std::string& role, float value) {
    onnx::NodeProto& proto = add_step("Constant", node, role, {});
    onnx::AttributeProto& attribute = *proto.add_attribute();
    attribute.set_name("value");
    attribute.set_type(onnx::AttributeProto::TENSOR);
    fill(*attribute.mutable_t(), proto.name(), {}, {&value, 1});
    return proto.name();
}

void ModelWriter::set_ints(onnx::NodeProto& proto, const std::string& called,
                           const std::vector<std::int64_t>& values) {
    onnx::AttributeProto& attribute = *proto.add_attribute();
    attribute.set_name(called);
    attribute.set_type(onnx::AttributeProto::INTS);
    for (const std::int64_t value : values) attribute.add_ints(value);
}

void ModelWriter::set_int(onnx::NodeProto& proto, const std::string& called, std::int64_t value) {
    onnx::AttributeProto& attribute = *proto.add_attribute();
    attribute.set_name(called);
    attribute.set_type(onnx::AttributeProto::INT);
    attribute.set_i(value);
}

void ModelWriter::set_float(onnx::NodeProto& proto, const std::string& called, float value) {
    onnx::AttributeProto& attribute = *proto.add_attribute();
    attribute.set_name(called);
    attribute.set_type(onnx::AttributeProto::FLOAT);
    attribute.set_f(value);
}

void ModelWriter::set_window(onnx::NodeProto& proto, const Window& w) {
    set_ints(proto, "kernel_shape", {w.kernel_height, w.kernel_width});
    set_ints(proto, "strides", {w.stride_height, w.stride_width});
    set_ints(proto, "pads", {w.pad_top, w.pad_left, w.pad_bottom, w.pad_right});
    if (w.dilation_height != 1 || w.dilation_width != 1)
        set_ints(proto, "dilations", {w.dilation_height, w.dilation_width});
    if (w.round_up) set_int(proto, "ceil_mode", 1);
}

std::string ModelWriter::as(std::size_t node, Layout wanted) {
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

std::string ModelWriter::batched(std::size_t node) {
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

bool ModelWriter::is_constant(std::size_t node) const {
    return std::holds_alternative<Constant>(network_.nodes[node].op);
}

std::int64_t ModelWriter::file_axis(std::size_t node, std::int64_t axis, Layout layout) const {
    return 1 + (layout == Layout::channels_first && shapes_[node].size() == 3 ? first_axis(axis) : axis);
}

onnx::NodeProto& ModelWriter::add_same_layout(const std::string& type, std::size_t i) {
    const std::size_t input = network_.nodes[i].inputs[0];
    layouts_[i] = layouts_[input];
    return add(type, name(i), {batched(input)});
}

onnx::NodeProto& ModelWriter::add_image(const std::string& type, std::size_t i) {
    layouts_[i] = Layout::channels_first;
    return add(type, name(i), {as(network_.nodes[i].inputs[0], Layout::channels_first)});
}

onnx::NodeProto& ModelWriter::add_plain(const std::string& type, std::size_t i) {
    std::vector<std::string> inputs;
    for (const std::size_t input : network_.nodes[i].inputs) inputs.push_back(as(input, Layout::plain));
    return add(type, name(i), inputs);
}

void ModelWriter::add_parameter(onnx::NodeProto& proto, std::size_t i, std::size_t p) {
    const Tensor& tensor = network_.nodes[i].parameters[p];
    const std::string_view role = role_name(jevrin::describe(network_.nodes[i].op).roles.at(p));
    // Where the name of the node does not say its module, that of the weight does.
    const std::string& module = network_.nodes[i].module;
    const bool named = module.empty() || module_path(name(i)).starts_with(module + ".");
    const std::string called =
        named ? fmt::format("{}:{}", name(i), role) : fmt::format("{}.{}", module, role);
    proto.add_input(add_own_or_shared(i, p, called, tensor));
}

void ModelWriter::write_node(std::size_t i) {
    static const Table table = [] {
        Table writers("form in model files");
        put_ends(writers);
        put_weighted(writers);
        put_pointwise(writers);
        put_pooling(writers);
        put_moving(writers);
        put_cutting(writers);
        put_arithmetic(writers);
        put_products(writers);
        return writers;
    }();
    table.at(network_.nodes[i].op)(*this, i);
}

template <>
void ModelWriter::write(std::size_t i, const Input&) {
    refuse(i);
}

void ModelWriter::refuse(std::size_t i) const {
    throw InputError(fmt::format("layer '{}' ({}) cannot be written to a model file", printable(name(i)),
                                 operator_name(network_.nodes[i].op)));
}

template <>
void ModelWriter::write(std::size_t i, const Constant& op) {
    const Tensor& tensor = network_.nodes[i].parameters[0];
    if (op.trained) {
        fill(*graph_->add_initializer(), name(i), tensor.shape(), tensor.values());
        return;
    }
    onnx::NodeProto& proto = add("Constant", name(i), {});
    proto.set_doc_string(fixed_constant);
    onnx::AttributeProto& attribute = *proto.add_attribute();
    attribute.set_name("value");
    attribute.set_type(onnx::AttributeProto::TENSOR);
    fill(*attribute.mutable_t(), name(i), tensor.shape(), tensor.values());
}

void ModelWriter::put_ends(Table& table) {
    put<Input, Constant>(table);
}

namespace {

void add_node(onnx::GraphProto& graph, const FormatNode& node) {
    onnx::NodeProto& proto = *graph.add_node();
    proto.set_op_type(node.type);
    proto.set_name(node.output);
    for (const std::string& input : node.inputs) proto.add_input(input);
    proto.add_output(node.output);
    for (const auto& [name, value] : node.integers) {
        onnx::AttributeProto& attribute = *proto.add_attribute();
        attribute.set_name(name);
        attribute.set_type(onnx::AttributeProto::INT);
        attribute.set_i(value);
    }
    for (const auto& [name, values] : node.lists) {
        onnx::AttributeProto& attribute = *proto.add_attribute();
        attribute.set_name(name);
        attribute.set_type(onnx::AttributeProto::INTS);
        for (const std::int64_t value : values) attribute.add_ints(value);
    }
}

void add_constant(onnx::GraphProto& graph, const FormatConstant& constant) {
    onnx::TensorProto& tensor = *graph.add_initializer();
    tensor.set_name(constant.name);
    for (const std::int64_t size : constant.shape) tensor.add_dims(size);
    const bool whole = constant.numbers.empty();
    tensor.set_data_type(whole ? onnx::TensorProto::INT64 : onnx::TensorProto::FLOAT);
    for (const std::int64_t value : constant.integers) tensor.add_int64_data(value);
    if (!whole) tensor.set_raw_data(constant.numbers.data(), constant.numbers.size() * sizeof(float));
}

onnx::TypeProto::Tensor& describe_value(onnx::ValueInfoProto& info, const std::string& name, int type) {
    info.set_name(name);
    auto& tensor = *info.mutable_type()->mutable_tensor_type();
    tensor.set_elem_type(type);
    tensor.mutable_shape()->add_dim()->set_dim_param("batch");
    return tensor;
}

// Returns which values the network has in the file, as read_model() finds them.
std::string surround(onnx::GraphProto& graph, const Surroundings& surroundings) {
    Json network = {{"input", graph.input(0).name()}, {"output", graph.output(0).name()}};
    network["shape"] = Json::array();
    const auto& shape = graph.input(0).type().tensor_type().shape();
    for (int d = 1; d < shape.dim_size(); ++d) network["shape"].push_back(shape.dim(d).dim_value());
    const auto& out = graph.output(0).type().tensor_type().shape();
    const std::int64_t outputs = out.dim(out.dim_size() - 1).dim_value();

    google::protobuf::RepeatedPtrField<onnx::NodeProto> own;
    own.Swap(graph.mutable_node());
    for (const FormatNode& node : surroundings.before) add_node(graph, node);
    for (onnx::NodeProto& node : own) graph.add_node()->Swap(&node);
    for (const FormatNode& node : surroundings.after) add_node(graph, node);
    for (const FormatConstant& constant : surroundings.constants) add_constant(graph, constant);
    graph.clear_input();
    auto& bytes = describe_value(*graph.add_input(), surroundings.bytes, onnx::TensorProto::UINT8);
    bytes.mutable_shape()->add_dim()->set_dim_param("height");
    bytes.mutable_shape()->add_dim()->set_dim_param("width");
    bytes.mutable_shape()->add_dim()->set_dim_value(3);
    graph.clear_output();
    describe_value(*graph.add_output(), surroundings.output, onnx::TensorProto::FLOAT)
        .mutable_shape()
        ->add_dim()
        ->set_dim_value(outputs);
    return json_text(network);
}

}  // namespace

void write_model(const std::filesystem::path& path, const Model& model, const Surroundings* surroundings) {
    onnx::ModelProto proto;
    proto.set_ir_version(ir_version_written);
    proto.set_producer_name("jevrin");
    proto.set_producer_version(library_version());
    proto.add_opset_import()->set_version(opset_written);
    ModelWriter(model.network).write(*proto.mutable_graph());
    std::map<std::string, std::string> metadata = model.metadata;
    if (surroundings != nullptr) metadata[network_key] = surround(*proto.mutable_graph(), *surroundings);
    for (const auto& [key, value] : metadata) {
        auto& entry = *proto.add_metadata_props();
        entry.set_key(key);
        entry.set_value(value);
    }
    std::string bytes;
    if (!proto.SerializeToString(&bytes))
        throw WorkError(
            fmt::format("{}: the model exceeds the 2 GB limit of the format", printable(path.string())));
    bytes += model_seal(content_hash(bytes));
    write_file(path, bytes);
}

std::string model_seal(const std::string& hash) {
    onnx::ModelProto end;
    auto& entry = *end.add_metadata_props();
    entry.set_key(hash_key);
    entry.set_value(hash);
    return end.SerializeAsString();
}

}  // namespace jevrin::inline v1
