// Convolutions, dense layers, matrix products and normalisation in model files: read, and written.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct LocalResponse;

}  // namespace

Shape GraphReader::kernel_shape(const GraphNode& node, const Image& from, const Weight& stored) const {
    Shape shape = stored.shape;
    if (from.row && shape.size() == 3) shape.insert(shape.begin() + 2, 1);
    if (shape.size() != 4)
        node.fail(fmt::format("its weight is {} and it gets {}; only images and rows are convolved",
                              to_string(stored.shape), to_string(builder_.sizes(dynamic(node, 0), 1))));
    return shape;
}

template <>
void GraphReader::read_as<Convolution>(const GraphNode& node) {
    node.expect_inputs(2, 3);
    const Image from = image(node);
    const Weight stored = weight(node, 1);  // [out, in / groups, kernel_height, kernel_width]
    const Shape s = kernel_shape(node, from, stored);
    if (auto kernel = node.integers("kernel_shape")) {
        if (from.row) kernel->insert(kernel->begin(), 1);
        if (*kernel != std::vector<std::int64_t>{s[2], s[3]})
            node.fail(fmt::format("its kernel_shape does not match its weight, which is {}x{}", s[2], s[3]));
    }
    const Window w = window(node, from, s[2], s[3]);
    if (from.node == 0) note_patches(w);
    Tensor weight = transposed_weight(stored, {s[0], s[1], s[2] * s[3]});
    std::vector<Tensor> parameters;
    parameters.emplace_back(Shape{s[2], s[3], s[1], s[0]}, std::move(weight));
    if (node.has_input(2)) parameters.push_back(vector_weight(node, 2, s[0]));
    const std::int64_t groups = node.integer("group", 1);
    set(node, image_result(from, builder_.add(node.name(), Convolution{w, groups, {}}, {from.node},
                                              std::move(parameters), weight_names(node, {1, 2}))));
}

View GraphReader::dense(const GraphNode& node, const View& input, Tensor weight, std::vector<Tensor> bias,
                        std::vector<std::string> weights) {
    const int last = static_cast<int>(rank(input)) - 1;
    const View ready = builder_.with_last(input, {last}, node.name());
    const std::int64_t in = weight.shape()[0];
    std::vector<Tensor> parameters;
    parameters.push_back(std::move(weight));
    for (Tensor& b : bias) parameters.push_back(std::move(b));
    const std::int64_t features = sizes(input).back();
    if (features != in)
        node.fail(
            fmt::format("its weights need {} features and it gets {}; the image may have another size "
                        "than the model is made for",
                        in, features));
    View result = ready;
    result.node = builder_.add(node.name(), Dense{}, {ready.node}, std::move(parameters), std::move(weights));
    const Shape& shape = builder_.shape(result.node);
    auto& dim = result.dims[static_cast<std::size_t>(last)];
    dim.clear();
    if (shape.back() > 1) dim.push_back(static_cast<int>(shape.size()) - 1);
    return result;
}

template <>
void GraphReader::read_as<Dense>(const GraphNode& node) {
    node.expect_inputs(2, 3);
    const float alpha = node.number("alpha", 1.0F);
    const float beta = node.number("beta", 1.0F);
    const bool left_turned = node.integer("transA", 0) != 0;
    const bool right_turned = node.integer("transB", 0) != 0;
    if (is_dynamic(node, 0) && !is_dynamic(node, 1) && !(node.has_input(2) && is_dynamic(node, 2))) {
        View input = dynamic(node, 0);
        if (rank(input) != 2) node.fail("its input has more than two dimensions");
        if (left_turned) std::swap(input.dims[0], input.dims[1]);
        const Weight stored = weight(node, 1);
        if (stored.shape.size() != 2) node.fail("its weight must have two dimensions");
        Tensor matrix;
        if (right_turned) {
            matrix = transposed_weight(stored, {stored.shape[0], stored.shape[1], 1});
            matrix = Tensor({stored.shape[1], stored.shape[0]}, std::move(matrix));
        } else {
            matrix = Tensor(stored.shape);
            stored.read(0, matrix.values());
        }
        if (alpha != 1.0F)
            for (float& v : matrix.values()) v *= alpha;
        const std::int64_t out = matrix.shape()[1];
        std::vector<Tensor> bias;
        if (node.has_input(2)) {
            // One number per feature, or one for all of them.
            const Weight from = weight(node, 2);
            const std::int64_t count = element_count(from.shape);
            const bool row = count == out && (from.shape.empty() || from.shape.back() == out);
            if (!row && count != 1)
                node.fail(fmt::format("its bias is {} and its output has {}", to_string(from.shape),
                                      plural(out, "feature")));
            bias.emplace_back(Shape{out});
            from.read(0, bias[0].values().first(static_cast<std::size_t>(count)));
            if (!row) bias[0].fill(bias[0].data()[0]);
            if (beta != 1.0F)
                for (float& v : bias[0].values()) v *= beta;
        }
        set(node, dense(node, input, std::move(matrix), std::move(bias), weight_names(node, {1, 2})));
        return;
    }
    // A product of two values of the image.
    const auto operand = [&](int input, bool turned) {
        View view;
        if (is_dynamic(node, input)) {
            view = dynamic(node, input);
        } else {
            view = builder_.view(constant_node(node, input, 2, {0, 1}, false), {0, 1});
        }
        if (rank(view) != 2) node.fail("its inputs must have two dimensions");
        if (turned) std::swap(view.dims[0], view.dims[1]);
        return view;
    };
    View result = product(node, operand(0, left_turned), operand(1, right_turned));
    const auto scaled = [&](const View& view, const char* what, float factor) {
        return factor == 1.0F ? view
                              : with_number(node.name() + what, ArithmeticKind::multiply, view, factor);
    };
    result = scaled(result, ":alpha", alpha);
    if (node.has_input(2)) {
        const View addend = is_dynamic(node, 2)
                                ? dynamic(node, 2)
                                : builder_.view(constant_node(node, 2, 2, {0, 1}, false), {0, 1});
        result =
            joined_views(node.name() + ":sum", ArithmeticKind::add, result, scaled(addend, ":beta", beta));
    }
    set(node, result);
}

View GraphReader::normalised_channels(const GraphNode& node, Operator op, std::vector<Tensor> parameters) {
    const View& view = dynamic(node, 0);
    if (rank(view) < 2) node.fail("its input has no channel dimension");
    std::vector<int> order;
    for (int d = 2; d < static_cast<int>(rank(view)); ++d) order.push_back(d);
    order.push_back(1);
    const std::size_t input = builder_.place(view, order, node.name());
    return builder_.placed(
        view,
        builder_.add(node.name(), std::move(op), {input}, std::move(parameters), weight_names(node, {1, 2})),
        order);
}

template <>
void GraphReader::read_as<BatchNormalisation>(const GraphNode& node) {
    node.expect_inputs(5, 5);
    const bool training =
        node.opset() < 7 ? node.integer("is_test", 0) == 0 : node.integer("training_mode", 0) != 0;
    if (training) node.fail("it is in training mode; export the model for inference");
    if (node.integer("spatial", 1) != 1) node.fail("spatial = 0 is not supported");
    const std::int64_t channels = element_count(weight(node, 1).shape);
    std::vector<Tensor> parameters;
    for (int p = 1; p < 5; ++p) parameters.push_back(vector_weight(node, p, channels));
    for (const float v : parameters[3].values())
        if (v < 0) node.fail("a stored variance is negative");
    set(node,
        normalised_channels(
            node, BatchNormalisation{node.number("epsilon", 1e-5F), 1.0F - node.number("momentum", 0.9F)},
            std::move(parameters)));
}

template <>
void GraphReader::read_as<GroupNormalisation>(const GraphNode& node) {
    node.expect_inputs(3, 3);
    const View& view = dynamic(node, 0);
    if (rank(view) < 2) node.fail("its input has no channel dimension");
    const std::int64_t channels = sizes(view)[1];
    const bool each = node.type() == "InstanceNormalization";
    const std::int64_t groups = each ? channels : node.integer("num_groups", 0);
    if (groups < 1 || channels % groups != 0)
        node.fail(fmt::format("{} groups do not divide {}", groups, plural(channels, "channel")));
    // Set 18 had a scale and a shift for each group; later ones, and some exporters, have one for each
    // channel.
    const bool by_group = !each && node.opset() < 21 && element_count(weight(node, 1).shape) == groups;
    std::vector<Tensor> parameters;
    for (int p = 1; p < 3; ++p) {
        const Tensor stored = vector_weight(node, p, by_group ? groups : channels);
        Tensor wide({channels});
        for (std::int64_t c = 0; c < channels; ++c)
            wide.data()[c] = stored.data()[by_group ? c / (channels / groups) : c];
        parameters.push_back(std::move(wide));
    }
    set(node, normalised_channels(node, GroupNormalisation{groups, node.number("epsilon", 1e-5F)},
                                  std::move(parameters)));
}

template <>
void GraphReader::read_as<LayerNormalisation>(const GraphNode& node) {
    node.expect_inputs(2, 3);
    const View& view = dynamic(node, 0);
    const std::int64_t axis = node.axis(node.integer("axis", -1), rank(view));
    std::vector<int> last;
    Shape needed;
    for (std::int64_t d = axis; d < rank(view); ++d) {
        last.push_back(static_cast<int>(d));
        needed.push_back(sizes(view)[static_cast<std::size_t>(d)]);
    }
    View result = builder_.with_last(view, last, node.name());
    std::vector<Tensor> parameters;
    for (int p = 1; p < 3; ++p) {
        parameters.push_back(new_tensor(node, needed));
        if (!node.has_input(p)) continue;
        const Weight from = weight(node, p);
        if (from.shape != needed)
            node.fail(fmt::format("its weight is {} and it normalises {}", to_string(from.shape),
                                  to_string(needed)));
        from.read(0, parameters.back().values());
    }
    result.node = builder_.add(node.name(), LayerNormalisation{node.number("epsilon", 1e-5F)}, {result.node},
                               std::move(parameters), weight_names(node, {1, 2}));
    set(node, result);
}

template <>
void GraphReader::read_as<ParametricRelu>(const GraphNode& node) {
    node.expect_inputs(2, 2);
    const View& view = dynamic(node, 0);
    const Weight slope = weight(node, 1);
    int along = -1;  // the dimension that has slopes of its own
    int many = 0;
    for (int d = 0; d < static_cast<int>(slope.shape.size()); ++d)
        if (slope.shape[static_cast<std::size_t>(d)] > 1) {
            along = d + static_cast<int>(rank(view)) - static_cast<int>(slope.shape.size());
            ++many;
        }
    if (many <= 1 && std::ssize(slope.shape) <= rank(view)) {
        Tensor slopes({element_count(slope.shape)});
        slope.read(0, slopes.values());
        if (along >= 0 && sizes(view)[static_cast<std::size_t>(along)] != slopes.size())
            node.fail(fmt::format("it has {} slopes and gets {}", slopes.size(),
                                  to_string(builder_.sizes(view, 1))));
        View result = along < 0 ? view : builder_.with_last(view, {along}, node.name());
        result.node = builder_.add(node.name(), ParametricRelu{}, {result.node}, {std::move(slopes)},
                                   weight_names(node, {1}));
        set(node, result);
        return;
    }
    // A slope for each of several dimensions: what lies above zero, and the slopes times what lies below.
    constexpr float lowest = std::numeric_limits<float>::lowest();
    const std::vector<int> order = builder_.order_of(view);
    const std::size_t x = builder_.place(view, order, node.name());
    const std::size_t above = builder_.add(node.name() + ":above", relu(), {x});
    const std::size_t below =
        builder_.add(node.name() + ":below", Activation{{FunctionKind::clip, lowest, 0.0F}}, {x});
    const std::size_t sloped = builder_.add(node.name() + ":sloped", Arithmetic{ArithmeticKind::multiply},
                                            {below, constant_node(node, 1, rank(view), order, true)});
    set(node, builder_.placed(view, builder_.add(node.name(), sum_of_two(), {above, sloped}), order));
}

// x / (bias + alpha / size * sum of x^2 over neighbouring channels) ^ beta (Krizhevsky 2012). The mean of the
// neighbours is that of a window over an image whose columns are the channels.
template <>
void GraphReader::read_as<LocalResponse>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const Image from = image(node);
    const std::size_t input = from.node;
    const Shape shape = builder_.shape(input);
    const std::int64_t size = node.integer("size", 0);
    if (size < 1 || size > largest_dimension) node.fail("its size is out of range");
    const std::string& name = node.name();
    const auto with_number = [&](const std::string& role, ArithmeticKind kind, std::size_t x, float number) {
        return builder_.add(name + ":" + role, Arithmetic{kind},
                            {x, fixed_number(name + ":" + role + "_number", number)});
    };
    std::size_t x = builder_.add(name + ":squares", Arithmetic{ArithmeticKind::multiply}, {input, input});
    x = builder_.add(name + ":columns", Reshape{{shape[0] * shape[1], shape[2], 1}}, {x});
    const Window window{
        .kernel_width = size, .pad_left = (size - 1) / 2, .pad_right = size - 1 - (size - 1) / 2};
    x = builder_.add(name + ":means", AveragePooling{window, true}, {x});
    x = builder_.add(name + ":channels", Reshape{shape}, {x});
    x = with_number("scaled", ArithmeticKind::multiply, x, node.number("alpha", 1e-4F));
    x = with_number("biased", ArithmeticKind::add, x, node.number("bias", 1.0F));
    x = with_number("power", ArithmeticKind::power, x, node.number("beta", 0.75F));
    set(node, image_result(from, builder_.add(name, Arithmetic{ArithmeticKind::divide}, {input, x})));
}

void GraphReader::put_weighted(Table& table) {
    table.insert({
        {"BatchNormalization", &GraphReader::read_as<BatchNormalisation>},
        {"Conv", &GraphReader::read_as<Convolution>},
        {"Gemm", &GraphReader::read_as<Dense>},
        {"GroupNormalization", &GraphReader::read_as<GroupNormalisation>},
        {"InstanceNormalization", &GraphReader::read_as<GroupNormalisation>},
        {"LRN", &GraphReader::read_as<LocalResponse>},
        {"LayerNormalization", &GraphReader::read_as<LayerNormalisation>},
        {"PRelu", &GraphReader::read_as<ParametricRelu>},
    });
}

template <>
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
    proto.add_input(add_own_or_shared(i, 0, name(i) + ":weight", first));
    if (node.parameters.size() > 1) add_parameter(proto, i, 1);
}

template <>
void ModelWriter::write(std::size_t i, const BatchNormalisation& op) {
    write_by_channels(i, [&](const std::string& input, const std::string& called) {
        onnx::NodeProto& proto = add("BatchNormalization", called, {input});
        set_float(proto, "epsilon", op.epsilon);
        set_float(proto, "momentum", 1.0F - op.momentum);
        for (std::size_t p = 0; p < 4; ++p) add_parameter(proto, i, p);
    });
}

template <>
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

template <>
void ModelWriter::write(std::size_t i, const LayerNormalisation& op) {
    onnx::NodeProto& proto = add_plain("LayerNormalization", i);
    set_int(proto, "axis", -std::ssize(network_.nodes[i].parameters[0].shape()));
    set_float(proto, "epsilon", op.epsilon);
    add_parameter(proto, i, 0);
    add_parameter(proto, i, 1);
}

template <>
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

void ModelWriter::put_weighted(Table& table) {
    put<Convolution, BatchNormalisation, GroupNormalisation, LayerNormalisation, Dense>(table);
}

}  // namespace jevrin::inline v1
