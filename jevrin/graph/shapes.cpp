// The output shape of each operator, and the error when its inputs do not fit.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/graph/graph.hpp"
#include "jevrin/graph/kernel_shapes.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cassert>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

[[noreturn]] void clash(const Node& node, const std::string& what) {
    throw InputError(fmt::format("layer '{}' ({}): {}", printable(node.name), operator_name(node.op), what),
                     ErrorPlace::part);
}

// The shapes a node gets, and its checks.
class ShapeOf {
  public:
    ShapeOf(const Node& node, const std::vector<Shape>& in, const Shape& input)
        : node_(node), in_(in), input_(input) {}

    Shape operator()(const Input&) const { return input_; }
    Shape operator()(const Constant&) const { return parameter(0); }

    Shape operator()(const Convolution& op) const {
        const Shape& image = image_shape();
        const Shape& weight = parameter(0);
        if (op.groups < 1 || weight[3] % op.groups != 0)
            fail(fmt::format("{} output channels are not divisible by {} groups", weight[3], op.groups));
        if (image[2] != weight[2] * op.groups)
            fail(fmt::format("its weights need {} and it gets {}", plural(weight[2] * op.groups, "channel"),
                             image[2]));
        return windowed(op.window, image, weight[3]);
    }

    Shape operator()(const SeparableConvolution&) const {
        const SeparableShape shape = separable_shape(node_, image_shape());
        const ConvolutionShape& s = shape.depthwise;
        return {s.out_height(), s.out_width(), shape.output_channels()};
    }

    Shape operator()(const BatchNormalisation&) const {
        const Shape& shape = at_least_a_vector();
        if (shape.back() != parameter(0)[0])
            fail(fmt::format("it has {} and it gets {}", plural(parameter(0)[0], "channel"), shape.back()));
        return shape;
    }
    Shape operator()(const LayerNormalisation&) const {
        const Shape& scale = parameter(0);
        if (in_[0].size() < scale.size() ||
            !std::equal(scale.begin(), scale.end(), in_[0].end() - std::ssize(scale)))
            fail(fmt::format("it has parameters of {} and gets {}", to_string(scale), to_string(in_[0])));
        return in_[0];
    }
    Shape operator()(const GroupNormalisation& op) const {
        const Shape& shape = at_least_a_vector();
        if (shape.back() != parameter(0)[0])
            fail(fmt::format("it has {} and it gets {}", plural(parameter(0)[0], "channel"), shape.back()));
        if (op.groups < 1 || shape.back() % op.groups != 0)
            fail(fmt::format("{} channels are not divisible by {} groups", shape.back(), op.groups));
        return shape;
    }

    Shape operator()(const Activation&) const { return in_[0]; }
    Shape operator()(const ParametricRelu&) const {
        const Shape& shape = at_least_a_vector();
        const std::int64_t slopes = element_count(parameter(0));
        if (slopes != 1 && slopes != shape.back())
            fail(fmt::format("it has {} and gets {}", plural(slopes, "slope"),
                             plural(shape.back(), "channel")));
        return shape;
    }

    Shape operator()(const MaxPooling& op) const { return pooled(op.window); }
    Shape operator()(const AveragePooling& op) const {
        if (op.window.dilation_height != 1 || op.window.dilation_width != 1)
            fail("an average over a window with a dilation is not supported");
        return pooled(op.window);
    }
    Shape operator()(const GlobalAveragePooling&) const { return {1, 1, image_shape()[2]}; }

    Shape operator()(const Reduction& op) const {
        Shape shape;
        for (const std::int64_t axis : op.axes) check_axis(axis);
        for (std::size_t d = 0; d < in_[0].size(); ++d) {
            const bool reduced =
                std::find(op.axes.begin(), op.axes.end(), static_cast<std::int64_t>(d)) != op.axes.end();
            if (!reduced) shape.push_back(in_[0][d]);
            if (reduced && op.keep_dimensions) shape.push_back(1);
        }
        return shape;
    }
    Shape operator()(const Softmax& op) const {
        check_axis(op.axis);
        return in_[0];
    }

    Shape operator()(const Arithmetic&) const {
        const std::optional<Shape> shape = broadcast_shape(in_[0], in_[1]);
        if (!shape)
            fail(fmt::format("its inputs {} and {} cannot be broadcast together", to_string(in_[0]),
                             to_string(in_[1])));
        return *shape;
    }
    Shape operator()(const MatrixProduct&) const {
        const Shape& a = in_[0];
        const Shape& b = in_[1];
        const bool fits = a.size() >= 2 && a.size() == b.size() && a.back() == b[b.size() - 2] &&
                          std::equal(a.begin(), a.end() - 2, b.begin());
        if (!fits)
            fail(
                fmt::format("cannot multiply {} by {}; the columns of the first must be the rows of the "
                            "second",
                            to_string(a), to_string(b)));
        Shape shape = a;
        shape.back() = b.back();
        return shape;
    }
    Shape operator()(const Dense&) const {
        Shape shape = at_least_a_vector();
        if (shape.back() != parameter(0)[0])
            fail(fmt::format("its weights need {} features and it gets {}{}", parameter(0)[0],
                             to_string(shape), shape.size() == 3 ? "; add a flatten before it" : ""));
        shape.back() = parameter(0)[1];
        return shape;
    }

    Shape operator()(const Concatenate& op) const {
        check_axis(op.axis);
        const auto axis = static_cast<std::size_t>(op.axis);
        Shape shape = in_[0];
        for (std::size_t k = 1; k < in_.size(); ++k) {
            Shape other = in_[k];
            if (other.size() == shape.size()) {
                const std::int64_t length = other[axis];
                other[axis] = shape[axis];
                if (other == shape) {
                    shape[axis] += length;
                    continue;
                }
            }
            fail(fmt::format("cannot concatenate {} and {} along dimension {}", to_string(in_[0]),
                             to_string(in_[k]), op.axis));
        }
        return shape;
    }
    Shape operator()(const Slice& op) const {
        check_dimensions(op.stretches.size());
        Shape shape;
        for (std::size_t d = 0; d < op.stretches.size(); ++d) {
            const Stretch& s = op.stretches[d];
            const std::int64_t last = s.start + (s.count - 1) * s.step;
            if (s.count < 1 || s.step == 0 || std::min(s.start, last) < 0 ||
                std::max(s.start, last) >= in_[0][d])
                fail(fmt::format("slices {} to {} of dimension {}, which has {}", s.start, last, d,
                                 in_[0][d]));
            shape.push_back(s.count);
        }
        return shape;
    }
    Shape operator()(const Padding& op) const {
        check_dimensions(op.before.size());
        check_dimensions(op.after.size());
        Shape shape = in_[0];
        for (std::size_t d = 0; d < shape.size(); ++d) {
            const std::int64_t most = std::max(op.before[d], op.after[d]);
            if (std::min(op.before[d], op.after[d]) < 0 ||
                (op.kind == PaddingKind::reflect && most >= shape[d]))
                fail(fmt::format("pads dimension {} of {} by {} and {}", d, shape[d], op.before[d],
                                 op.after[d]));
            shape[d] += op.before[d] + op.after[d];
        }
        return shape;
    }
    Shape operator()(const Transpose& op) const {
        check_dimensions(op.permutation.size());
        Shape shape;
        std::vector<bool> seen(in_[0].size(), false);
        for (const std::int64_t from : op.permutation) {
            check_axis(from);
            if (seen[static_cast<std::size_t>(from)]) fail("its permutation must name each dimension once");
            seen[static_cast<std::size_t>(from)] = true;
            shape.push_back(in_[0][static_cast<std::size_t>(from)]);
        }
        return shape;
    }
    Shape operator()(const Reshape& op) const {
        if (element_count(op.shape) != element_count(in_[0]))
            fail(fmt::format("cannot reshape {} to {}", to_string(in_[0]), to_string(op.shape)));
        return op.shape;
    }
    Shape operator()(const Flatten&) const { return {element_count(in_[0])}; }
    Shape operator()(const Gather& op) const {
        check_axis(op.axis);
        const auto axis = static_cast<std::size_t>(op.axis);
        Shape shape = in_[0];
        for (const std::int64_t place : op.places)
            if (place < 0 || place >= shape[axis])
                fail(fmt::format("gathers index {} of dimension {}, which has {}", place, axis, shape[axis]));
        shape[axis] = std::ssize(op.places);
        return shape;
    }
    Shape operator()(const Dropout&) const { return in_[0]; }

  private:
    [[noreturn]] void fail(const std::string& what) const { clash(node_, what); }
    const Shape& parameter(std::size_t i) const { return node_.parameters.at(i).shape(); }

    void check_axis(std::int64_t axis) const {
        if (axis < 0 || axis >= std::ssize(in_[0]))
            fail(fmt::format("operates along dimension {} and gets {}", axis, to_string(in_[0])));
    }
    void check_dimensions(std::size_t expected) const {
        if (in_[0].size() != expected)
            fail(fmt::format("needs {} and gets {}", plural(static_cast<std::int64_t>(expected), "dimension"),
                             to_string(in_[0])));
    }
    const Shape& at_least_a_vector() const {
        if (in_[0].empty()) fail("needs at least one dimension and gets a scalar");
        return in_[0];
    }
    const Shape& image_shape() const {
        if (in_[0].size() != 3)
            fail(
                fmt::format("needs a map [height, width, channels] and gets {}; move it before the "
                            "flatten",
                            to_string(in_[0])));
        return in_[0];
    }

    Shape windowed(const Window& w, const Shape& in, std::int64_t channels) const {
        const auto positive = {w.kernel_height, w.kernel_width,    w.stride_height,
                               w.stride_width,  w.dilation_height, w.dilation_width};
        const auto pads = {w.pad_top, w.pad_left, w.pad_bottom, w.pad_right};
        if (std::min(positive) < 1 || std::min(pads) < 0)
            fail("kernel, stride and dilation must be positive, padding not negative");
        const std::int64_t height = in[0] + w.pad_top + w.pad_bottom;
        const std::int64_t width = in[1] + w.pad_left + w.pad_right;
        const std::int64_t kernel_height = w.dilation_height * (w.kernel_height - 1) + 1;
        const std::int64_t kernel_width = w.dilation_width * (w.kernel_width - 1) + 1;
        if (height < kernel_height || width < kernel_width)
            fail(
                fmt::format("its {}x{} window is larger than the padded image {}x{}; use larger images or "
                            "fewer strides before it",
                            kernel_height, kernel_width, height, width));
        return {(height - kernel_height) / w.stride_height + 1, (width - kernel_width) / w.stride_width + 1,
                channels};
    }
    Shape pooled(const Window& w) const {
        const Shape& image = image_shape();
        const std::int64_t reach_down = w.dilation_height * (w.kernel_height - 1) + 1;
        const std::int64_t reach_right = w.dilation_width * (w.kernel_width - 1) + 1;
        if (w.pad_top >= reach_down || w.pad_bottom >= reach_down || w.pad_left >= reach_right ||
            w.pad_right >= reach_right)
            fail("its padding is as large as its window; use less padding");
        windowed(w, image, image[2]);
        const PoolingShape pooling = pooling_shape(w, image, false);
        return {pooling.out_height(), pooling.out_width(), image[2]};
    }

    const Node& node_;
    const std::vector<Shape>& in_;
    const Shape& input_;
};

}  // namespace

namespace {
ConvolutionShape convolution_of(const Window& w, std::int64_t groups, const Shape& image,
                                std::int64_t out_channels) {
    return {image[0],       image[1],        image[2],          out_channels,     w.kernel_height,
            w.kernel_width, w.stride_height, w.stride_width,    w.pad_top,        w.pad_left,
            w.pad_bottom,   w.pad_right,     w.dilation_height, w.dilation_width, groups};
}
}  // namespace

PoolingShape pooling_shape(const Window& w, const Shape& image, bool count_padding) {
    return {image[0],        image[1],       image[2],   w.kernel_height,   w.kernel_width,
            w.stride_height, w.stride_width, w.pad_top,  w.pad_left,        w.pad_bottom,
            w.pad_right,     count_padding,  w.round_up, w.dilation_height, w.dilation_width};
}

ConvolutionShape convolution_shape(const Node& node, const Shape& image) {
    const auto& op = std::get<Convolution>(node.op);
    return convolution_of(op.window, op.groups, image, node.parameters[0].shape()[3]);
}

SeparableShape separable_shape(const Node& node, const Shape& image) {
    const auto& op = std::get<SeparableConvolution>(node.op);
    const std::size_t depthwise = op.expands ? 2 : 0;
    const std::int64_t channels = node.parameters[depthwise].shape()[3];
    return {convolution_of(op.window, channels, {image[0], image[1], channels}, channels),
            op.expands ? image[2] : 0, op.projects ? node.parameters[depthwise + 2].shape()[3] : 0};
}

Shape infer_shape(const Node& node, const std::vector<Shape>& inputs) {
    return std::visit(ShapeOf(node, inputs, {}), node.op);
}

std::vector<Shape> infer_shapes(const Network& network) {
    std::vector<Shape> shapes;
    for (const Node& node : network.nodes) {
        std::vector<Shape> inputs;
        for (const std::size_t i : node.inputs) {
            assert(i < shapes.size());
            inputs.push_back(shapes[i]);
        }
        shapes.push_back(std::visit(ShapeOf(node, inputs, network.input), node.op));
    }
    return shapes;
}

}  // namespace jevrin::inline v1
