// Operators that take places together or move elements: pooling, reductions, slices, shapes.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/model_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace jevrin::inline v1 {

using namespace operators;

void ModelWriter::write(std::size_t i, const MaxPooling& op) {
    set_window(add_image("MaxPool", i), op.window);
}

void ModelWriter::write(std::size_t i, const AveragePooling& op) {
    onnx::NodeProto& proto = add_image("AveragePool", i);
    set_window(proto, op.window);
    set_int(proto, "count_include_pad", op.count_padding ? 1 : 0);
}

void ModelWriter::write(std::size_t i, const GlobalAveragePooling&) {
    add_image("GlobalAveragePool", i);
}

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

Layout ModelWriter::common_layout(std::size_t i) const {
    if (shapes_[i].size() != 3) return Layout::plain;
    for (const std::size_t input : network_.nodes[i].inputs)
        if (is_first(input)) return Layout::channels_first;
    return Layout::plain;
}

void ModelWriter::write(std::size_t i, const Concatenate& op) {
    const Layout layout = common_layout(i);
    layouts_[i] = layout;
    std::vector<std::string> inputs;
    for (const std::size_t input : network_.nodes[i].inputs) inputs.push_back(as(input, layout));
    set_int(add("Concat", name(i), inputs), "axis", file_axis(i, op.axis, layout));
}

void ModelWriter::write(std::size_t i, const Slice& op) {
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

void ModelWriter::write(std::size_t i, const Padding& op) {
    const std::size_t input = network_.nodes[i].inputs[0];
    layouts_[i] = common_layout(i);
    const std::size_t rank = shapes_[i].size() + 1;
    std::vector<std::int64_t> pads(2 * rank, 0);
    for (std::size_t d = 0; d < op.before.size(); ++d) {
        const auto at = static_cast<std::size_t>(file_axis(input, static_cast<std::int64_t>(d), layouts_[i]));
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

void ModelWriter::write(std::size_t i, const Transpose& op) {
    std::vector<std::int64_t> permutation = {0};
    for (const std::int64_t d : op.permutation) permutation.push_back(d + 1);
    set_ints(add_plain("Transpose", i), "perm", permutation);
}

void ModelWriter::write(std::size_t i, const Reshape& op) {
    std::vector<std::int64_t> shape = {0};
    shape.insert(shape.end(), op.shape.begin(), op.shape.end());
    add_plain("Reshape", i).add_input(add_integers(name(i) + ":shape", shape));
}

void ModelWriter::write(std::size_t i, const Flatten&) {
    const std::size_t input = network_.nodes[i].inputs[0];
    const Layout layout = shapes_[input].size() == 3 ? Layout::channels_first : Layout::plain;
    set_int(add("Flatten", name(i), {as(input, layout)}), "axis", 1);
}

void ModelWriter::write(std::size_t i, const Gather& op) {
    const std::size_t input = network_.nodes[i].inputs[0];
    layouts_[i] = common_layout(i);
    onnx::NodeProto& proto = add("Gather", name(i), {as(input, layouts_[i])});
    proto.add_input(add_integers(name(i) + ":places", op.places));
    set_int(proto, "axis", file_axis(input, op.axis, layouts_[i]));
}

}  // namespace jevrin::inline v1
