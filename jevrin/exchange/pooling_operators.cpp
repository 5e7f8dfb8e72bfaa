// Windows, pooling and reductions in model files: read, and written.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct GlobalMaximum;

const std::vector<int> channels_last = {2, 3, 1};
}  // namespace

// The node of an image, channels last, and its view.
std::pair<std::size_t, View> GraphReader::image(const GraphNode& node) {
    const View& view = dynamic(node, 0);
    const bool batched = rank(view) == 4 && view.dims[0] == std::vector<int>{batch_axis};
    if (!batched)
        node.fail(fmt::format("needs images [batch, channels, height, width] and gets a value of {}",
                              plural(rank(view), "dimension")));
    const std::size_t placed = builder_.place(view, channels_last, node.name());
    return {placed, builder_.placed(view, placed, channels_last)};
}

View GraphReader::image_result(const View& from, std::size_t node) const {
    return builder_.placed(from, node, channels_last);
}

Window GraphReader::window(const GraphNode& node, const Shape& image, std::int64_t kernel_height,
                           std::int64_t kernel_width) const {
    const auto list = [&](const char* name, std::size_t count, std::int64_t otherwise) {
        auto numbers = node.integers(name).value_or(std::vector<std::int64_t>(count, otherwise));
        if (numbers.size() != count)
            node.fail(fmt::format("its {} has {} and needs {}", name, plural(std::ssize(numbers), "number"),
                                  count));
        for (const std::int64_t n : numbers)
            if (n < 0 || n > largest_dimension) node.fail(fmt::format("its {} is out of range", name));
        return numbers;
    };
    const auto strides = list("strides", 2, 1);
    const auto dilations = list("dilations", 2, 1);
    auto pads = list("pads", 4, 0);
    if (std::min({strides[0], strides[1], dilations[0], dilations[1], kernel_height, kernel_width}) < 1)
        node.fail("its kernel, strides and dilations must be positive");
    const std::string automatic = node.text("auto_pad", "NOTSET");
    if (automatic == "SAME_UPPER" || automatic == "SAME_LOWER") {
        const std::int64_t kernels[] = {kernel_height, kernel_width};
        for (std::size_t d = 0; d < 2; ++d) {
            const std::int64_t out = (image[d] + strides[d] - 1) / strides[d];
            const std::int64_t reach = (out - 1) * strides[d] + (kernels[d] - 1) * dilations[d] + 1;
            const std::int64_t missing = std::max<std::int64_t>(0, reach - image[d]);
            pads[d] = automatic == "SAME_UPPER" ? missing / 2 : missing - missing / 2;
            pads[d + 2] = missing - pads[d];
        }
    } else if (automatic != "NOTSET" && automatic != "VALID" && !automatic.empty()) {
        node.fail(fmt::format("auto_pad = {} is not known", printable(automatic)));
    }
    return {.kernel_height = kernel_height,
            .kernel_width = kernel_width,
            .stride_height = strides[0],
            .stride_width = strides[1],
            .pad_top = pads[0],
            .pad_left = pads[1],
            .pad_bottom = pads[2],
            .pad_right = pads[3],
            .dilation_height = dilations[0],
            .dilation_width = dilations[1],
            .round_up = node.integer("ceil_mode", 0) != 0};
}

Window GraphReader::pooling_window(const GraphNode& node, const Shape& image) const {
    const auto kernel = node.integers("kernel_shape");
    if (!kernel || kernel->size() != 2) node.fail("needs a kernel_shape of two numbers");
    if ((*kernel)[0] > largest_dimension || (*kernel)[1] > largest_dimension)
        node.fail("its kernel_shape is out of range");
    return window(node, image, (*kernel)[0], (*kernel)[1]);
}

template <>
void GraphReader::read_as<MaxPooling>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const auto [input, view] = image(node);
    const MaxPooling op{pooling_window(node, builder_.shape(input))};
    set(node, image_result(view, builder_.add(node.name(), op, {input})));
}

template <>
void GraphReader::read_as<AveragePooling>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const auto [input, view] = image(node);
    const AveragePooling op{pooling_window(node, builder_.shape(input)),
                            node.integer("count_include_pad", 0) != 0};
    set(node, image_result(view, builder_.add(node.name(), op, {input})));
}

template <>
void GraphReader::read_as<GlobalAveragePooling>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const auto [input, view] = image(node);
    set(node, image_result(view, builder_.add(node.name(), GlobalAveragePooling{}, {input})));
}

template <>
void GraphReader::read_as<GlobalMaximum>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const auto [input, view] = image(node);
    const Reduction op{ReductionKind::maximum, {0, 1}, true};
    set(node, image_result(view, builder_.add(node.name(), op, {input})));
}

View GraphReader::reduced(const GraphNode& node, const std::string& name, ReductionKind kind,
                          const View& view) {
    const auto inputs = known_inputs(node);
    std::vector<const Folded*> pointers;
    for (const auto& input : inputs) pointers.push_back(input.get());
    const auto stated = integers_of(node, "axes", 1, pointers);
    const bool all = !stated || stated->empty();
    if (all && node.integer("noop_with_empty_axes", 0) != 0) return view;
    std::set<int> gone;
    for (int d = 0; all && d < static_cast<int>(rank(view)); ++d) gone.insert(d);
    if (!all)
        for (const std::int64_t axis : *stated) gone.insert(static_cast<int>(node.axis(axis, rank(view))));
    std::vector<std::int64_t> axes;
    for (const int d : gone)
        for (const int axis : view.dims[static_cast<std::size_t>(d)]) {
            if (axis == batch_axis) node.fail("pools over the batch dimension");
            axes.push_back(axis);
        }
    std::sort(axes.begin(), axes.end());
    const bool keep = node.integer("keepdims", 1) != 0;
    View result = view;
    const Shape before = builder_.shape(view.node);
    const bool map =
        kind == ReductionKind::mean && before.size() == 3 && axes == std::vector<std::int64_t>{0, 1};
    if (map)
        result.node = builder_.add(name, GlobalAveragePooling{}, {view.node});
    else
        result.node = builder_.add(name, Reduction{kind, axes, true}, {view.node});
    std::vector<std::vector<int>> dims;
    for (int d = 0; d < static_cast<int>(rank(view)); ++d) {
        if (gone.count(d) == 0)
            dims.push_back(view.dims[static_cast<std::size_t>(d)]);
        else if (keep)
            dims.emplace_back();
    }
    result.dims = dims;
    return result;
}

template <>
void GraphReader::read_as<Reduction>(const GraphNode& node) {
    node.expect_inputs(1, 2);
    const View& view = dynamic(node, 0);
    const std::string& type = node.type();
    if (type == "ReduceMean") {
        set(node, reduced(node, node.name(), ReductionKind::mean, view));
    } else if (type == "ReduceSum") {
        set(node, reduced(node, node.name(), ReductionKind::sum, view));
    } else if (type == "ReduceMax") {
        set(node, reduced(node, node.name(), ReductionKind::maximum, view));
    } else if (type == "ReduceMin") {
        const View turned = with_number(node.name() + ":negated", ArithmeticKind::multiply, view, -1.0F);
        const View most = reduced(node, node.name() + ":maximum", ReductionKind::maximum, turned);
        set(node, with_number(node.name(), ArithmeticKind::multiply, most, -1.0F));
    } else {
        View squares = view;
        squares.node = builder_.add(node.name() + ":squares", Arithmetic{ArithmeticKind::multiply},
                                    {view.node, view.node});
        const bool root = type == "ReduceL2";
        const View sum =
            reduced(node, root ? node.name() + ":sum" : node.name(), ReductionKind::sum, squares);
        set(node, root ? pointwise(node.name(), Activation{{FunctionKind::square_root}}, sum) : sum);
    }
}

void GraphReader::put_pooling(Table& table) {
    table.insert({
        {"AveragePool", &GraphReader::read_as<AveragePooling>},
        {"GlobalAveragePool", &GraphReader::read_as<GlobalAveragePooling>},
        {"GlobalMaxPool", &GraphReader::read_as<GlobalMaximum>},
        {"MaxPool", &GraphReader::read_as<MaxPooling>},
        {"ReduceL2", &GraphReader::read_as<Reduction>},
        {"ReduceMax", &GraphReader::read_as<Reduction>},
        {"ReduceMean", &GraphReader::read_as<Reduction>},
        {"ReduceMin", &GraphReader::read_as<Reduction>},
        {"ReduceSum", &GraphReader::read_as<Reduction>},
        {"ReduceSumSquare", &GraphReader::read_as<Reduction>},
    });
}

template <>
void ModelWriter::write(std::size_t i, const MaxPooling& op) {
    set_window(add_image("MaxPool", i), op.window);
}

template <>
void ModelWriter::write(std::size_t i, const AveragePooling& op) {
    onnx::NodeProto& proto = add_image("AveragePool", i);
    set_window(proto, op.window);
    set_int(proto, "count_include_pad", op.count_padding ? 1 : 0);
}

template <>
void ModelWriter::write(std::size_t i, const GlobalAveragePooling&) {
    add_image("GlobalAveragePool", i);
}

template <>
void ModelWriter::write(std::size_t i, const Reduction& op) {
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

void ModelWriter::put_pooling(Table& table) {
    put<MaxPooling, AveragePooling, GlobalAveragePooling, Reduction>(table);
}

}  // namespace jevrin::inline v1
