// Resizing and transposed convolution in model files: read, as operators that the network has.
#include "jevrin/exchange/graph_reader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct Resize;
struct TransposedConvolution;

// What a resized element is made of: places of the input and their weights, as many for each element.
struct Resampling {
    std::vector<std::vector<std::int64_t>> places;  // of each tap, of each element
    std::vector<std::vector<float>> weights;
};

class ResamplingRule {
  public:
    ResamplingRule(const GraphNode& node, bool old)
        : node_(node),
          mode_(node.text("mode", "nearest")),
          coordinates_(node.text("coordinate_transformation_mode", old ? "asymmetric" : "half_pixel")),
          nearest_(node.text("nearest_mode", old ? "floor" : "round_prefer_floor")),
          cubic_(static_cast<double>(node.number("cubic_coeff_a", -0.75F))),
          exclude_outside_(node.integer("exclude_outside", 0) != 0),
          antialias_(node.integer("antialias", 0) != 0) {
        if (mode_ != "nearest" && mode_ != "linear" && mode_ != "bilinear" && mode_ != "cubic")
            node.fail(fmt::format("its mode '{}' is not supported", printable(mode_)));
    }

    // Of one dimension; scale is that of the standard, which need not be out / in.
    Resampling resample(std::int64_t in, std::int64_t out, double scale) const {
        Resampling result;
        for (std::int64_t i = 0; i < out; ++i) {
            const double at = source(i, in, out, scale);
            if (mode_ == "nearest") {
                add(result, i, {nearest(at, in)}, {1.0});
                continue;
            }
            // A filter that is stretched when the image shrinks (antialias), by the distance of each tap.
            const double shrink = antialias_ ? std::min(scale, 1.0) : 1.0;
            const double support = (mode_ == "cubic" ? 2.0 : 1.0) / shrink;
            std::vector<std::int64_t> places;
            std::vector<double> weights;
            double sum = 0.0;
            const auto first = static_cast<std::int64_t>(std::floor(at - support)) + 1;
            const auto taps = static_cast<std::int64_t>(std::ceil(2.0 * support));
            for (std::int64_t place = first; place < first + taps; ++place) {
                double weight = filter((static_cast<double>(place) - at) * shrink);
                if (exclude_outside_ && (place < 0 || place >= in)) weight = 0.0;
                places.push_back(std::clamp<std::int64_t>(place, 0, in - 1));
                weights.push_back(weight);
                sum += weight;
            }
            if (sum == 0.0)
                node_.fail("its filter weights sum to zero (exclude_outside), which is not supported");
            for (double& weight : weights) weight /= sum;
            add(result, i, places, weights);
        }
        return result;
    }

  private:
    static void add(Resampling& result, std::int64_t i, const std::vector<std::int64_t>& places,
                    const std::vector<double>& weights) {
        const auto done = static_cast<std::size_t>(i);
        for (std::size_t tap = result.places.size(); tap < places.size(); ++tap) {
            result.places.emplace_back(done, 0);
            result.weights.emplace_back(done, 0.0F);
        }
        for (std::size_t tap = 0; tap < result.places.size(); ++tap) {
            result.places[tap].push_back(tap < places.size() ? places[tap] : 0);
            result.weights[tap].push_back(tap < places.size() ? static_cast<float>(weights[tap]) : 0.0F);
        }
    }

    // Where an element of the output lies between those of the input.
    double source(std::int64_t i, std::int64_t in, std::int64_t out, double scale) const {
        const auto x = static_cast<double>(i);
        const auto from = static_cast<double>(in);
        if (coordinates_ == "half_pixel") return (x + 0.5) / scale - 0.5;
        if (coordinates_.ends_with("_half_pixel")) return out > 1 ? (x + 0.5) / scale - 0.5 : 0.0;
        if (coordinates_ == "asymmetric") return x / scale;
        if (coordinates_.ends_with("_half_pixel_for_nn")) return (x + 0.5) / scale;
        if (coordinates_ == "align_corners") return out > 1 ? x * (from - 1.0) / (scale * from - 1.0) : 0.0;
        if (coordinates_ == "half_pixel_symmetric") {
            const double adjusted = static_cast<double>(out) / (scale * from);
            return from / 2.0 * (1.0 - adjusted) + (x + 0.5) / scale - 0.5;
        }
        node_.fail(
            fmt::format("its coordinate_transformation_mode '{}' is not supported", printable(coordinates_)));
    }

    std::int64_t nearest(double at, std::int64_t in) const {
        double place = 0.0;
        if (nearest_ == "round_prefer_floor")
            place = std::ceil(at - 0.5);
        else if (nearest_ == "round_prefer_ceil")
            place = std::floor(at + 0.5);
        else if (nearest_ == "floor")
            place = std::floor(at);
        else if (nearest_ == "ceil")
            place = std::ceil(at);
        else
            node_.fail(fmt::format("its nearest_mode '{}' is not supported", printable(nearest_)));
        return std::clamp<std::int64_t>(static_cast<std::int64_t>(place), 0, in - 1);
    }

    // Of the distance from the element: a triangle, or cubic convolution (Keys 1981).
    double filter(double distance) const {
        const double x = std::abs(distance);
        if (mode_ != "cubic") return std::max(0.0, 1.0 - x);
        if (x <= 1.0) return ((cubic_ + 2.0) * x - (cubic_ + 3.0)) * x * x + 1.0;
        if (x < 2.0) return ((cubic_ * x - 5.0 * cubic_) * x + 8.0 * cubic_) * x - 4.0 * cubic_;
        return 0.0;
    }

    const GraphNode& node_;
    std::string mode_;
    std::string coordinates_;
    std::string nearest_;
    double cubic_;
    bool exclude_outside_;
    bool antialias_;
};

// Of each dimension: its new length, and the scale that says where its elements come from.
struct NewSize {
    std::int64_t length = 0;
    double scale = 1.0;
};

std::vector<NewSize> new_sizes(const GraphNode& node, const Shape& from, FoldedInputs inputs) {
    const int scales_at = node.type() == "Upsample" || node.opset() < 11 ? 1 : 2;
    const auto list = [&](int input) -> std::optional<std::vector<double>> {
        if (!node.has_input(input)) return std::nullopt;
        const Folded* known = inputs[static_cast<std::size_t>(input)];
        if (known == nullptr) node.fail("its size depends on the image");
        if (known->values.empty()) return std::nullopt;
        return known->values;
    };
    std::optional<std::vector<double>> scales = list(scales_at);
    if (const auto* attribute = node.attribute("scales"); !scales && attribute != nullptr)
        scales = std::vector<double>(attribute->floats().begin(), attribute->floats().end());
    const std::optional<std::vector<double>> sizes = scales_at == 2 ? list(3) : std::nullopt;
    if (scales.has_value() == sizes.has_value()) node.fail("needs either scales or sizes");
    const std::vector<double>& stated = scales ? *scales : *sizes;

    std::vector<std::int64_t> axes;
    if (const auto named = node.integers("axes"))
        for (const std::int64_t axis : *named) axes.push_back(node.axis(axis, std::ssize(from)));
    else
        for (std::int64_t axis = 0; axis < std::ssize(from); ++axis) axes.push_back(axis);
    if (axes.size() != stated.size()) node.fail("its scales or sizes do not match its dimensions");

    std::vector<NewSize> result;
    for (const std::int64_t size : from) result.push_back({size, 1.0});
    const std::string policy = node.text("keep_aspect_ratio_policy", "stretch");
    double common = policy == "not_smaller" ? 0.0 : 1e30;
    for (std::size_t i = 0; i < axes.size(); ++i) {
        NewSize& to = result[static_cast<std::size_t>(axes[i])];
        const auto size = static_cast<double>(to.length);
        if (!(stated[i] > 0.0) || stated[i] * (scales ? size : 1.0) > 1e9 * std::max(1.0, size))
            node.fail("its scales or sizes are out of range");
        to.scale = scales ? stated[i] : stated[i] / size;
        to.length = static_cast<std::int64_t>(std::floor(scales ? size * stated[i] : stated[i]));
        common = policy == "not_smaller" ? std::max(common, to.scale) : std::min(common, to.scale);
    }
    if (!scales && policy != "stretch")
        for (const std::int64_t axis : axes) {
            NewSize& to = result[static_cast<std::size_t>(axis)];
            to.scale = common;
            to.length = std::llround(common * static_cast<double>(from[static_cast<std::size_t>(axis)]));
        }
    return result;
}

}  // namespace

template <>
void GraphReader::read_as<Resize>(const GraphNode& node) {
    node.expect_inputs(1, 4);
    const View& view = dynamic(node, 0);
    const auto inputs = known_inputs(node);
    const std::vector<NewSize> wanted = new_sizes(node, sizes(view), pointers_to(inputs));
    const ResamplingRule rule(node, node.type() == "Upsample" || node.opset() < 11);
    const std::vector<int> order = builder_.order_of(view);
    std::size_t x = builder_.place(view, order, node.name());
    for (std::size_t d = 0; d < wanted.size(); ++d) {
        const auto axis = std::ranges::find(order, static_cast<int>(d)) - order.begin();
        const std::int64_t before = sizes(view)[d];
        if (wanted[d].length == before && wanted[d].scale == 1.0) continue;
        if (axis == std::ssize(order)) node.fail("resizes the batch dimension");
        if (wanted[d].length < 1 || wanted[d].length > largest_dimension)
            node.fail("its scales or sizes are out of range");
        const Resampling how = rule.resample(before, wanted[d].length, wanted[d].scale);
        std::optional<std::size_t> sum;
        for (std::size_t tap = 0; tap < how.places.size(); ++tap) {
            const auto& weights = how.weights[tap];
            if (std::ranges::all_of(weights, [](float w) { return w == 0.0F; })) continue;
            const std::string name = fmt::format("{}:axis{}_tap{}", node.name(), axis, tap);
            std::size_t part = builder_.add(name, Gather{axis, how.places[tap]}, {x});
            if (std::ranges::any_of(weights, [](float w) { return w != 1.0F; })) {
                Shape along(order.size(), 1);
                along[static_cast<std::size_t>(axis)] = wanted[d].length;
                const std::size_t factors =
                    builder_.add(name + "_weights", Constant{false}, {}, {Tensor(along, weights)});
                part =
                    builder_.add(name + "_weighted", Arithmetic{ArithmeticKind::multiply}, {part, factors});
            }
            sum = sum ? builder_.add(name + "_sum", sum_of_two(), {*sum, part}) : part;
        }
        x = *sum;
    }
    set(node, builder_.placed(view, x, order));
}

// A transposed convolution is a convolution of the image with zeros between its pixels, by the kernel turned
// round (Dumoulin & Visin 2016).
template <>
void GraphReader::read_as<TransposedConvolution>(const GraphNode& node) {
    node.expect_inputs(2, 3);
    const Image from = image(node);
    const Weight stored = weight(node, 1);  // [in, out / groups, kernel_height, kernel_width]
    const Shape s = kernel_shape(node, from, stored);
    const Shape image = builder_.shape(from.node);
    const std::int64_t groups = node.integer("group", 1);
    if (groups < 1 || s[0] % groups != 0 || s[0] != image[2])
        node.fail(fmt::format("its weights need {} and it gets {}", plural(s[0], "channel"), image[2]));
    const auto pair = [&](const char* name, std::int64_t otherwise) {
        auto numbers = node.integers(name).value_or(std::vector<std::int64_t>(from.row ? 1 : 2, otherwise));
        if (from.row && numbers.size() == 1) numbers.insert(numbers.begin(), otherwise);
        if (numbers.size() != 2) node.fail(fmt::format("its {} needs two numbers", name));
        return numbers;
    };
    Window w = window(node, from, s[2], s[3]);
    const auto extra = pair("output_padding", 0);
    const std::int64_t kernels[] = {s[2], s[3]};
    const std::int64_t strides[] = {w.stride_height, w.stride_width};
    const std::int64_t dilations[] = {w.dilation_height, w.dilation_width};
    std::int64_t before[] = {w.pad_top, w.pad_left};
    std::int64_t after[] = {w.pad_bottom, w.pad_right};
    const std::string automatic = node.text("auto_pad", "NOTSET");
    const bool same = automatic == "SAME_UPPER" || automatic == "SAME_LOWER";
    const bool shaped = node.attribute("output_shape") != nullptr;
    const auto shape = pair("output_shape", 1);
    std::vector<std::int64_t> zeros_before(3, 0);
    std::vector<std::int64_t> zeros_after(3, 0);
    Slice cut;
    for (std::size_t d = 0; d < 2; ++d) {
        const std::int64_t reach = dilations[d] * (kernels[d] - 1);
        if (extra[d] < 0 || extra[d] > largest_dimension || shape[d] > largest_dimension)
            node.fail("its output_padding or output_shape is out of range");
        if (same || shaped) {
            const std::int64_t length = shaped ? shape[d] : image[d] * strides[d];
            const std::int64_t all = strides[d] * (image[d] - 1) + extra[d] + reach + 1 - length;
            // Halves of what is missing, too, are rounded down.
            before[d] = automatic == "SAME_UPPER" ? all >> 1 : all - (all >> 1);
            after[d] = all - before[d];
        }
        const std::int64_t stuffed = image[d] * strides[d];
        const std::int64_t lead = reach - before[d];
        const std::int64_t trail = reach - after[d] + extra[d] - (strides[d] - 1);
        zeros_before[d] = std::max<std::int64_t>(0, lead);
        zeros_after[d] = std::max<std::int64_t>(0, trail);
        const std::int64_t start = std::max<std::int64_t>(0, -lead);
        cut.stretches.push_back(
            {start, 1,
             stuffed + zeros_before[d] + zeros_after[d] - start - std::max<std::int64_t>(0, -trail)});
    }
    cut.stretches.push_back({0, 1, image[2]});

    std::size_t x = from.node;
    const std::string& name = node.name();
    if (strides[0] > 1 || strides[1] > 1) {
        x = builder_.add(name + ":pixels", Reshape{{image[0], 1, image[1], 1, image[2]}}, {x});
        x = builder_.add(name + ":zeros", Padding{{0, 0, 0, 0, 0}, {0, strides[0] - 1, 0, strides[1] - 1, 0}},
                         {x});
        x = builder_.add(name + ":stuffed", Reshape{{image[0] * strides[0], image[1] * strides[1], image[2]}},
                         {x});
    }
    if (std::ranges::any_of(zeros_before, [](auto n) { return n > 0; }) ||
        std::ranges::any_of(zeros_after, [](auto n) { return n > 0; }))
        x = builder_.add(name + ":padded", Padding{zeros_before, zeros_after}, {x});
    const Shape padded = builder_.shape(x);
    if (cut.stretches[0].count != padded[0] || cut.stretches[1].count != padded[1])
        x = builder_.add(name + ":cut", cut, {x});

    Tensor turned = new_tensor(node, {s[2], s[3], s[0] / groups, s[1] * groups});
    std::vector<float> values(static_cast<std::size_t>(element_count(s)));
    stored.read(0, values);
    const std::int64_t inside = s[0] / groups;
    const std::int64_t taps = s[2] * s[3];
    for (std::int64_t in = 0; in < s[0]; ++in)
        for (std::int64_t out = 0; out < s[1]; ++out)
            for (std::int64_t tap = 0; tap < taps; ++tap)
                turned.data()[((taps - 1 - tap) * inside + in % inside) * s[1] * groups + in / inside * s[1] +
                              out] = values[static_cast<std::size_t>((in * s[1] + out) * taps + tap)];
    std::vector<Tensor> parameters;
    parameters.push_back(std::move(turned));
    if (node.has_input(2)) parameters.push_back(vector_weight(node, 2, s[1] * groups));
    const Window plain{.kernel_height = s[2],
                       .kernel_width = s[3],
                       .dilation_height = dilations[0],
                       .dilation_width = dilations[1]};
    set(node, image_result(from, builder_.add(name, Convolution{plain, groups, {}}, {x},
                                              std::move(parameters), weight_names(node, {1, 2}))));
}

void GraphReader::put_resampling(Table& table) {
    table.insert({
        {"ConvTranspose", &GraphReader::read_as<TransposedConvolution>},
        {"Resize", &GraphReader::read_as<Resize>},
        {"Upsample", &GraphReader::read_as<Resize>},
    });
}

}  // namespace jevrin::inline v1
