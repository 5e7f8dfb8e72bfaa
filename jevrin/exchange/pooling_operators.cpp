// Windows, pooling and reductions in model files: read, and written.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_writer.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct GlobalMaximum;
struct NormPooling;

const std::vector<int> channels_last = {2, 3, 1};
}  // namespace

GraphReader::Image GraphReader::image(const GraphNode& node) {
    View view = dynamic(node, 0);
    const bool row = rank(view) == 3;
    if (row) view.dims.insert(view.dims.begin() + 2, std::vector<int>{});
    const bool batched = rank(view) == 4 && view.dims[0] == std::vector<int>{batch_axis};
    if (!batched)
        node.fail(fmt::format("needs images [batch, channels, height, width] and gets a value of {}",
                              plural(rank(dynamic(node, 0)), "dimension")));
    const std::size_t placed = builder_.place(view, channels_last, node.name());
    return {placed, builder_.placed(view, placed, channels_last), row};
}

View GraphReader::image_result(const Image& from, std::size_t node) const {
    View view = builder_.placed(from.view, node, channels_last);
    if (from.row) view.dims.erase(view.dims.begin() + 2);
    return view;
}

Window GraphReader::window(const GraphNode& node, const Image& from, std::int64_t kernel_height,
                           std::int64_t kernel_width) const {
    const Shape& image = builder_.shape(from.node);
    const auto list = [&](const char* name, std::size_t count, std::int64_t otherwise) {
        const std::size_t stated = from.row ? count / 2 : count;
        auto numbers = node.integers(name).value_or(std::vector<std::int64_t>(stated, otherwise));
        if (from.row && numbers.size() == stated) {
            // Rows are images of one line.
            numbers.insert(numbers.begin(), otherwise);
            if (count == 4) numbers.insert(numbers.begin() + 2, otherwise);
        }
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

Window GraphReader::pooling_window(const GraphNode& node, const Image& from) const {
    auto kernel = node.integers("kernel_shape");
    if (kernel && from.row && kernel->size() == 1) kernel->insert(kernel->begin(), 1);
    if (!kernel || kernel->size() != 2) node.fail("needs a kernel_shape of two numbers");
    if ((*kernel)[0] > largest_dimension || (*kernel)[1] > largest_dimension)
        node.fail("its kernel_shape is out of range");
    return window(node, from, (*kernel)[0], (*kernel)[1]);
}

template <>
void GraphReader::read_as<MaxPooling>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const Image from = image(node);
    const MaxPooling op{pooling_window(node, from)};
    set(node, image_result(from, builder_.add(node.name(), op, {from.node})));
}

template <>
void GraphReader::read_as<AveragePooling>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const Image from = image(node);
    const AveragePooling op{pooling_window(node, from), node.integer("count_include_pad", 0) != 0};
    set(node, image_result(from, builder_.add(node.name(), op, {from.node})));
}

template <>
void GraphReader::read_as<GlobalAveragePooling>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const Image from = image(node);
    set(node, image_result(from, builder_.add(node.name(), GlobalAveragePooling{}, {from.node})));
}

template <>
void GraphReader::read_as<GlobalMaximum>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const Image from = image(node);
    const Reduction op{ReductionKind::maximum, {0, 1}, true};
    set(node, image_result(from, builder_.add(node.name(), op, {from.node})));
}

View GraphReader::reduced(const GraphNode& node, const std::string& name, ReductionKind kind,
                          const View& view) {
    const auto inputs = known_inputs(node);
    const auto stated = integers_of(node, "axes", 1, pointers_to(inputs));
    const bool all = !stated || stated->empty();
    if (all && node.integer("noop_with_empty_axes", 0) != 0) return view;
    std::set<int> gone;
    for (int d = 0; all && d < static_cast<int>(rank(view)); ++d) gone.insert(d);
    if (!all)
        for (const std::int64_t axis : *stated) gone.insert(static_cast<int>(node.axis(axis, rank(view))));
    return reduced_over(node, name, kind, view, gone, node.integer("keepdims", 1) != 0);
}

View GraphReader::reduced_over(const GraphNode& node, const std::string& name, ReductionKind kind,
                               const View& view, const std::set<int>& gone, bool keep) {
    std::vector<std::int64_t> axes;
    for (const int d : gone)
        for (const int axis : view.dims[static_cast<std::size_t>(d)]) {
            if (axis == batch_axis) node.fail("pools over the batch dimension");
            axes.push_back(axis);
        }
    std::sort(axes.begin(), axes.end());
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
    return keep ? result : settled(node, result);
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
    } else if (type == "ReduceL1") {
        const View sizes_of =
            pointwise(node.name() + ":absolute", Activation{{FunctionKind::absolute}}, view);
        set(node, reduced(node, node.name(), ReductionKind::sum, sizes_of));
    } else if (type == "ReduceLogSum" || type == "ReduceLogSumExp") {
        const bool exponential = type == "ReduceLogSumExp";
        View inner = view;
        if (exponential)
            inner = pointwise(node.name() + ":exponential", Activation{{FunctionKind::exponential}}, view);
        const View sum = reduced(node, node.name() + ":sum", ReductionKind::sum, inner);
        set(node, pointwise(node.name(), Activation{{FunctionKind::logarithm}}, sum));
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

// (sum of |x|^p over a window)^(1/p): the mean over as many places, zeros in the padding included, times
// their number.
template <>
void GraphReader::read_as<NormPooling>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const Image from = image(node);
    const std::int64_t p = node.integer("p", 2);
    if (p < 1 || p > 64) node.fail(fmt::format("its p is {}; 1 to 64 are supported", p));
    if (node.integer("ceil_mode", 0) != 0) node.fail("its ceil_mode is not supported");
    const std::string& name = node.name();
    const Shape& shape = builder_.shape(from.node);
    const bool global = node.type() == "GlobalLpPool";
    const Window w =
        global ? Window{.kernel_height = shape[0], .kernel_width = shape[1]} : pooling_window(node, from);
    const auto number = [&](const std::string& role, ArithmeticKind kind, std::size_t x, float value) {
        return builder_.add(name + role, Arithmetic{kind}, {x, fixed_number(name + role + "_number", value)});
    };
    std::size_t x = builder_.add(name + ":absolute", Activation{{FunctionKind::absolute}}, {from.node});
    if (p > 1) x = number(":power", ArithmeticKind::power, x, static_cast<float>(p));
    x = builder_.add(name + ":mean", AveragePooling{w, true}, {x});
    x = number(p > 1 ? ":sum" : "", ArithmeticKind::multiply, x,
               static_cast<float>(w.kernel_height * w.kernel_width));
    if (p > 1) x = number("", ArithmeticKind::power, x, 1.0F / static_cast<float>(p));
    set(node, image_result(from, x));
}

void GraphReader::put_pooling(Table& table) {
    table.insert({
        {"AveragePool", &GraphReader::read_as<AveragePooling>},
        {"GlobalAveragePool", &GraphReader::read_as<GlobalAveragePooling>},
        {"GlobalLpPool", &GraphReader::read_as<NormPooling>},
        {"GlobalMaxPool", &GraphReader::read_as<GlobalMaximum>},
        {"LpPool", &GraphReader::read_as<NormPooling>},
        {"MaxPool", &GraphReader::read_as<MaxPooling>},
        {"ReduceL1", &GraphReader::read_as<Reduction>},
        {"ReduceL2", &GraphReader::read_as<Reduction>},
        {"ReduceLogSum", &GraphReader::read_as<Reduction>},
        {"ReduceLogSumExp", &GraphReader::read_as<Reduction>},
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
