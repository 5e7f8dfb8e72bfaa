#include "jevrin/graph/rewrites.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <optional>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

constexpr int deepest_product = 4;

// Finds operators that an exporter decomposed into several nodes.
class Decomposed {
  public:
    explicit Decomposed(Network& network)
        : network_(network), shapes_(infer_shapes(network)), users_(network.nodes.size(), 0) {
        for (const Node& node : network.nodes)
            for (const std::size_t input : node.inputs) ++users_[input];
        ++users_.back();
    }

    void recompose_dense_layers() {
        for_arithmetic([&](std::size_t i, ArithmeticKind kind) {
            if (kind == ArithmeticKind::add) add_bias(i);
        });
    }
    void recompose_layer_normalisations() {
        for_arithmetic([&](std::size_t i, ArithmeticKind kind) {
            if (kind == ArithmeticKind::add) recompose_layer_normalisation(i);
        });
    }
    void recompose_activations() {
        for_arithmetic([&](std::size_t i, ArithmeticKind kind) {
            if (kind == ArithmeticKind::multiply || kind == ArithmeticKind::divide) recompose_activation(i);
        });
    }

  private:
    template <typename Visit>
    void for_arithmetic(Visit visit) {
        for (std::size_t i = 1; i < network_.nodes.size(); ++i)
            if (const Arithmetic* op = arithmetic(i)) visit(i, op->kind);
    }
    const Node& node(std::size_t i) const { return network_.nodes[i]; }
    template <typename Op>
    const Op* as(std::size_t i) const {
        return std::get_if<Op>(&node(i).op);
    }
    const Arithmetic* arithmetic(std::size_t i) const { return as<Arithmetic>(i); }
    bool is_arithmetic(std::size_t i, ArithmeticKind kind) const {
        return arithmetic(i) != nullptr && arithmetic(i)->kind == kind;
    }
    const Function* function(std::size_t i, FunctionKind kind) const {
        return is_activation(node(i).op, kind) ? &as<Activation>(i)->function : nullptr;
    }
    std::optional<double> number(std::size_t i) const {
        if (as<Constant>(i) == nullptr || node(i).parameters[0].size() != 1) return std::nullopt;
        return static_cast<double>(node(i).parameters[0].data()[0]);
    }
    static bool near(double a, double b) { return std::abs(a - b) <= 1e-4 * std::abs(b); }

    // The other operand of arithmetic of this kind with a number near this one.
    std::optional<std::size_t> beside_number(std::size_t i, ArithmeticKind kind, double wanted) const {
        if (!is_arithmetic(i, kind)) return std::nullopt;
        const auto& inputs = node(i).inputs;
        const bool turns = kind == ArithmeticKind::add || kind == ArithmeticKind::multiply;
        if (number(inputs[1]) && near(*number(inputs[1]), wanted)) return inputs[0];
        if (turns && number(inputs[0]) && near(*number(inputs[0]), wanted)) return inputs[1];
        return std::nullopt;
    }

    void replace(std::size_t i, Operator op, std::vector<std::size_t> inputs,
                 std::vector<Tensor> parameters = {}, std::vector<std::string> shared = {}) {
        Node& node = network_.nodes[i];
        node.op = std::move(op);
        node.inputs = std::move(inputs);
        node.parameters = std::move(parameters);
        node.shared = std::move(shared);
    }

    bool add_bias(std::size_t i) {
        for (const std::size_t side : {0U, 1U}) {
            const std::size_t dense = node(i).inputs[side];
            const std::size_t bias = node(i).inputs[1 - side];
            const bool fits = as<Dense>(dense) != nullptr && node(dense).parameters.size() == 1 &&
                              users_[dense] == 1 && as<Constant>(bias) != nullptr && users_[bias] == 1 &&
                              shapes_[bias] == Shape{shapes_[dense].back()} && shapes_[i] == shapes_[dense];
            if (!fits) continue;
            std::vector<Tensor> parameters;
            parameters.push_back(std::move(network_.nodes[dense].parameters[0]));
            parameters.push_back(std::move(network_.nodes[bias].parameters[0]));
            replace(i, Dense{}, node(dense).inputs, std::move(parameters), node(dense).shared);
            return true;
        }
        return false;
    }

    // Factors of a product, and what its numbers multiply to. Spelled-out activations have few: whatever has
    // more is left alone.
    struct Factors {
        double number = 1.0;
        std::vector<std::size_t> others;
    };
    void collect(std::size_t i, Factors& factors, int depth = 0) const {
        const auto& inputs = node(i).inputs;
        if (depth > deepest_product || factors.others.size() > 2) {
            factors.others.resize(3);
            return;
        }
        if (const auto value = number(i)) {
            factors.number *= *value;
        } else if (is_arithmetic(i, ArithmeticKind::multiply)) {
            collect(inputs[0], factors, depth + 1);
            collect(inputs[1], factors, depth + 1);
        } else if (is_arithmetic(i, ArithmeticKind::divide) && number(inputs[1])) {
            factors.number /= *number(inputs[1]);
            collect(inputs[0], factors, depth + 1);
        } else {
            factors.others.push_back(i);
        }
    }

    void recompose_activation(std::size_t i) {
        Factors factors;
        collect(i, factors);
        if (factors.others.size() != 2) return;
        for (const std::size_t side : {0U, 1U}) {
            const std::size_t x = factors.others[side];
            const std::size_t gate = factors.others[1 - side];
            if (gate < x || shapes_[gate] != shapes_[x]) continue;
            if (const auto kind = gate_of(x, gate, factors.number)) replace(i, Activation{{*kind}}, {x});
        }
    }

    // The activation that number * x * gate is.
    std::optional<FunctionKind> gate_of(std::size_t x, std::size_t gate, double number) const {
        const auto takes = [&](std::size_t node_index, std::size_t input) {
            return node(node_index).inputs == std::vector<std::size_t>{input};
        };
        if (function(gate, FunctionKind::sigmoid) != nullptr && takes(gate, x) && near(number, 1.0))
            return FunctionKind::silu;
        if (const Function* f = function(gate, FunctionKind::hard_sigmoid))
            if (takes(gate, x) && near(number, 1.0) && near(static_cast<double>(f->alpha), 1.0 / 6.0) &&
                near(static_cast<double>(f->beta), 0.5))
                return FunctionKind::hard_swish;
        if (const Function* f = function(gate, FunctionKind::clip)) {
            const auto shifted = beside_number(node(gate).inputs[0], ArithmeticKind::add, 3.0);
            if (shifted == x && f->alpha == 0.0F && f->beta == 6.0F && near(number, 1.0 / 6.0))
                return FunctionKind::hard_swish;
        }
        const auto error = beside_number(gate, ArithmeticKind::add, 1.0);
        if (error && function(*error, FunctionKind::erf) != nullptr && near(number, 0.5)) {
            const std::size_t inner = node(*error).inputs[0];
            const auto divided = beside_number(inner, ArithmeticKind::divide, std::numbers::sqrt2);
            const auto multiplied = beside_number(inner, ArithmeticKind::multiply, 1.0 / std::numbers::sqrt2);
            if (divided == x || multiplied == x) return FunctionKind::gelu;
        }
        return std::nullopt;
    }

    // The value that a mean over the last dimensions is taken of; count receives how many they are.
    std::optional<std::size_t> averaged(std::size_t i, std::size_t& count) const {
        const auto* mean = as<Reduction>(i);
        if (mean == nullptr || mean->kind != ReductionKind::mean || !mean->keep_dimensions)
            return std::nullopt;
        const std::size_t x = node(i).inputs[0];
        count = mean->axes.size();
        for (std::size_t k = 0; k < count; ++k)
            if (mean->axes[k] != static_cast<std::int64_t>(shapes_[x].size() - count + k))
                return std::nullopt;
        return x;
    }
    // x, when a node is x less its mean over the last dimensions.
    std::optional<std::size_t> centred(std::size_t i, std::size_t& count) const {
        if (!is_arithmetic(i, ArithmeticKind::subtract)) return std::nullopt;
        const auto x = averaged(node(i).inputs[1], count);
        return x == node(i).inputs[0] ? x : std::nullopt;
    }

    bool recompose_layer_normalisation(std::size_t i) {
        for (const std::size_t side : {0U, 1U}) {
            const std::size_t scaled = node(i).inputs[side];
            const std::size_t shift = node(i).inputs[1 - side];
            if (!is_arithmetic(scaled, ArithmeticKind::multiply) || as<Constant>(shift) == nullptr) continue;
            for (const std::size_t inner : {0U, 1U}) {
                const std::size_t quotient = node(scaled).inputs[inner];
                const std::size_t scale = node(scaled).inputs[1 - inner];
                if (as<Constant>(scale) == nullptr || !is_arithmetic(quotient, ArithmeticKind::divide))
                    continue;
                if (const auto found = standardised(quotient)) {
                    const auto& [x, count, epsilon] = *found;
                    const Shape last(shapes_[x].end() - static_cast<std::ptrdiff_t>(count), shapes_[x].end());
                    if (shapes_[scale] != last || shapes_[shift] != last) continue;
                    replace(i, LayerNormalisation{epsilon}, {x},
                            {node(scale).parameters[0], node(shift).parameters[0]},
                            {node(scale).name, node(shift).name});
                    return true;
                }
            }
        }
        return false;
    }

    struct Standardised {
        std::size_t x;
        std::size_t count;
        float epsilon;
    };
    // (x - mean) / sqrt(mean of (x - mean)^2 + epsilon).
    std::optional<Standardised> standardised(std::size_t quotient) const {
        std::size_t count = 0;
        const auto x = centred(node(quotient).inputs[0], count);
        const std::size_t root = node(quotient).inputs[1];
        if (!x || function(root, FunctionKind::square_root) == nullptr) return std::nullopt;
        const std::size_t sum = node(root).inputs[0];
        if (!is_arithmetic(sum, ArithmeticKind::add)) return std::nullopt;
        for (const std::size_t side : {0U, 1U}) {
            const auto epsilon = number(node(sum).inputs[1 - side]);
            std::size_t squares_count = 0;
            const auto squares = averaged(node(sum).inputs[side], squares_count);
            if (!epsilon || !squares || squares_count != count) continue;
            std::size_t again = 0;
            const bool power = beside_number(*squares, ArithmeticKind::power, 2.0).has_value();
            const bool product = is_arithmetic(*squares, ArithmeticKind::multiply) &&
                                 node(*squares).inputs[0] == node(*squares).inputs[1];
            if ((power || product) && centred(node(*squares).inputs[0], again) == x && again == count)
                return Standardised{*x, count, static_cast<float>(*epsilon)};
        }
        return std::nullopt;
    }

    Network& network_;
    std::vector<Shape> shapes_;
    std::vector<int> users_;
};

}  // namespace

Network recompose_dense_layers(Network network) {
    Decomposed(network).recompose_dense_layers();
    return remove_unused(std::move(network));
}
Network recompose_layer_normalisations(Network network) {
    Decomposed(network).recompose_layer_normalisations();
    return remove_unused(std::move(network));
}
Network recompose_activations(Network network) {
    Decomposed(network).recompose_activations();
    return remove_unused(std::move(network));
}

}  // namespace jevrin::inline v1
