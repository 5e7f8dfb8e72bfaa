// Quantised networks in model files: read as float networks that round where the file rounds.
#include "jevrin/exchange/graph_reader.hpp"

#include <fmt/format.h>

#include <limits>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct Quantise;
struct Dequantise;

struct WholeRange {
    float least = 0.0F;
    float most = 255.0F;
};

// Of the type of the zero point; 8 bits without a sign when there is none.
WholeRange range_of(const GraphNode& node, int type) {
    const auto range = [](auto number) {
        using Number = decltype(number);
        return WholeRange{static_cast<float>(std::numeric_limits<Number>::lowest()),
                          static_cast<float>(std::numeric_limits<Number>::max())};
    };
    switch (type) {
        case 0:
        case onnx::TensorProto::UINT8:
            return range(std::uint8_t{});
        case onnx::TensorProto::INT8:
            return range(std::int8_t{});
        case onnx::TensorProto::UINT16:
            return range(std::uint16_t{});
        case onnx::TensorProto::INT16:
            return range(std::int16_t{});
        default:
            node.fail(fmt::format("quantises to the element type {}, which is not supported", type));
    }
}

}  // namespace

// One number, or one for each element of a dimension, as a constant that broadcasts to the value.
Folded GraphReader::along_axis(const GraphNode& node, int input, std::int64_t rank) const {
    const auto stated = known(value(node, input));
    if (!stated) node.fail("its scale or zero point depends on the image");
    if (node.integer("block_size", 0) != 0) node.fail("its block_size is not supported");
    Folded constant{.shape = {}, .values = stated->values};
    if (constant.values.size() == 1) return constant;
    const std::int64_t axis = node.axis(node.integer("axis", 1), rank);
    constant.shape.assign(static_cast<std::size_t>(rank - axis), 1);
    constant.shape[0] = std::ssize(constant.values);
    return constant;
}

// round(x / scale) + zero point, held within the type.
template <>
void GraphReader::read_as<Quantise>(const GraphNode& node) {
    node.expect_inputs(2, 3);
    const View& x = dynamic(node, 0);
    const std::string& name = node.name();
    const bool has_zero = node.has_input(2);
    const int type =
        has_zero ? known(value(node, 2))->element_type : static_cast<int>(node.integer("output_dtype", 0));
    const WholeRange range = range_of(node, type);
    View made = with_constant(node, name + ":steps", ArithmeticKind::divide, x, along_axis(node, 1, rank(x)));
    made = pointwise(name + ":round", Activation{{FunctionKind::round}}, made);
    if (has_zero)
        made = with_constant(node, name + ":zero", ArithmeticKind::add, made, along_axis(node, 2, rank(x)));
    set(node, pointwise(name, Activation{{FunctionKind::clip, range.least, range.most}}, made));
}

template <>
void GraphReader::read_as<Dequantise>(const GraphNode& node) {
    node.expect_inputs(2, 3);
    View made = dynamic(node, 0);
    const std::int64_t dimensions = rank(made);
    if (node.has_input(2))
        made = with_constant(node, node.name() + ":zero", ArithmeticKind::subtract, made,
                             along_axis(node, 2, dimensions));
    set(node,
        with_constant(node, node.name(), ArithmeticKind::multiply, made, along_axis(node, 1, dimensions)));
}

void GraphReader::put_quantised(Table& table) {
    table.insert({
        {"DequantizeLinear", &GraphReader::read_as<Dequantise>},
        {"QuantizeLinear", &GraphReader::read_as<Quantise>},
    });
}

}  // namespace jevrin::inline v1
