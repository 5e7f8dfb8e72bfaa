#include "traffic.hpp"

#include <variant>

namespace jevrin::bench {
namespace {

using namespace operators;

// Reads and writes of arrays of the size of an operator's inputs and output.
struct Passes {
    double inputs = 0.0;
    double output = 0.0;
};
struct OperatorPasses {
    Passes forward;
    Passes backward;
    bool is_fusable = false;  // by what reads or writes its values
};

template <typename... Kinds>
bool is_one_of(const Operator& op) {
    return (std::holds_alternative<Kinds>(op) || ...);
}

OperatorPasses passes_of(const Operator& op) {
    if (is_one_of<Input, Constant, Reshape, Flatten>(op)) return {};
    // Backwards: the input and the output gradient for the parameters, the output gradient again for the
    // input gradient. Fused, one reading of the output gradient would do.
    if (is_one_of<Convolution, Dense, MatrixProduct>(op)) return {{1, 1}, {2, 2}, false};
    if (is_one_of<MaxPooling, AveragePooling, GlobalAveragePooling, Reduction>(op))
        return {{1, 1}, {1, 1}, false};
    // Statistics and what is made of them are a pass each, forwards and backwards.
    if (is_one_of<BatchNormalisation, LayerNormalisation, GroupNormalisation>(op))
        return {{2, 1}, {3, 2}, true};
    if (is_one_of<Arithmetic, Concatenate, Slice, Padding, Transpose, Gather>(op))
        return {{1, 1}, {1, 1}, true};
    return {{1, 1}, {1, 2}, true};  // activations, softmax, dropout: the output and its gradient
}

Traffic traffic(const Network& network, std::int64_t batch, bool trains) {
    const std::vector<Shape> shapes = infer_shapes(network);
    Traffic bytes;
    for (std::size_t n = 0; n < network.nodes.size(); ++n) {
        const Node& node = network.nodes[n];
        double inputs = 0.0;
        for (const std::size_t from : node.inputs) inputs += static_cast<double>(element_count(shapes[from]));
        const auto output = static_cast<double>(element_count(shapes[n]));
        const OperatorPasses passes = passes_of(node.op);
        const auto floats = [&](const Passes& p) {
            return static_cast<double>(batch) * (p.inputs * inputs + p.output * output);
        };
        const double all = floats(passes.forward) + (trains ? floats(passes.backward) : 0.0);
        const double repeated =
            trains && passes.backward.output == 2.0 ? static_cast<double>(batch) * output : 0;
        bytes.unfused += 4.0 * all;
        bytes.fused += passes.is_fusable ? 0.0 : 4.0 * (all - repeated);
    }
    const double parameters = 4.0 * static_cast<double>(parameter_count(network)) * (trains ? 10.0 : 1.0);
    return {bytes.unfused + parameters, bytes.fused + parameters};
}

}  // namespace

Traffic forward_traffic(const Network& network, std::int64_t batch) {
    return traffic(network, batch, false);
}

Traffic step_traffic(const Network& network, std::int64_t batch) {
    return traffic(network, batch, true);
}

}  // namespace jevrin::bench
