// Constants computed from the values of others.
#include "jevrin/exchange/folding_rules.hpp"
#include "jevrin/exchange/moved_dimensions.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

namespace jevrin::inline v1 {
namespace {

using Outputs = std::vector<Folded>;

Folded elementwise(const GraphNode& node, const Folded& a, const Folded& b, bool whole,
                   const std::function<double(double, double)>& function) {
    const std::optional<Shape> shape = broadcast_shape(a.shape, b.shape);
    if (!shape) node.fail(fmt::format("gets {} and {}", to_string(a.shape), to_string(b.shape)));
    const Folded left = broadcast_to(node, a, *shape);
    const Folded right = broadcast_to(node, b, *shape);
    Folded out = new_constant(node, *shape, whole);
    for (std::size_t i = 0; i < out.values.size(); ++i)
        out.values[i] = rounded(function(left.values[i], right.values[i]), whole);
    return out;
}

using Binary = std::function<double(double, double)>;

const std::map<std::string, Binary>& arithmetic() {
    static const std::map<std::string, Binary> functions = {
        {"Add", [](double a, double b) { return a + b; }},
        {"Sub", [](double a, double b) { return a - b; }},
        {"Mul", [](double a, double b) { return a * b; }},
        {"Div", [](double a, double b) { return b == 0 ? 0 : a / b; }},
        {"Pow", [](double a, double b) { return std::pow(a, b); }},
        {"Min", [](double a, double b) { return std::min(a, b); }},
        {"Max", [](double a, double b) { return std::max(a, b); }},
        {"Sum", [](double a, double b) { return a + b; }},
    };
    return functions;
}

const std::map<std::string, Binary>& comparisons() {
    static const std::map<std::string, Binary> functions = {
        {"Equal", [](double a, double b) { return a == b; }},
        {"Less", [](double a, double b) { return a < b; }},
        {"Greater", [](double a, double b) { return a > b; }},
        {"LessOrEqual", [](double a, double b) { return a <= b; }},
        {"GreaterOrEqual", [](double a, double b) { return a >= b; }},
        {"And", [](double a, double b) { return a != 0 && b != 0; }},
        {"Or", [](double a, double b) { return a != 0 || b != 0; }},
        {"Xor", [](double a, double b) { return (a != 0) != (b != 0); }},
    };
    return functions;
}

const std::map<std::string, std::function<double(double)>>& functions() {
    static const std::map<std::string, std::function<double(double)>> table = {
        {"Identity", [](double x) { return x; }},
        {"Neg", [](double x) { return -x; }},
        {"Abs", [](double x) { return std::abs(x); }},
        {"Sqrt", [](double x) { return std::sqrt(x); }},
        {"Exp", [](double x) { return std::exp(x); }},
        {"Log", [](double x) { return std::log(x); }},
        {"Reciprocal", [](double x) { return 1.0 / x; }},
        {"Floor", [](double x) { return std::floor(x); }},
        {"Ceil", [](double x) { return std::ceil(x); }},
        {"Round", [](double x) { return std::nearbyint(x); }},
        {"Not", [](double x) { return x == 0 ? 1.0 : 0.0; }},
        {"Sigmoid", [](double x) { return 1.0 / (1.0 + std::exp(-x)); }},
        {"Tanh", [](double x) { return std::tanh(x); }},
        {"Relu", [](double x) { return std::max(x, 0.0); }},
        {"Sin", [](double x) { return std::sin(x); }},
        {"Cos", [](double x) { return std::cos(x); }},
        {"Erf", [](double x) { return std::erf(x); }},
        {"Sign", [](double x) { return x > 0 ? 1.0 : (x < 0 ? -1.0 : 0.0); }},
    };
    return table;
}

struct FoldedReduction {
    double start;
    Binary join;
    bool mean = false;
};
const std::map<std::string, FoldedReduction>& reductions() {
    constexpr double infinity = std::numeric_limits<double>::infinity();
    static const std::map<std::string, FoldedReduction> table = {
        {"ReduceSum", {0.0, [](double a, double b) { return a + b; }}},
        {"ReduceMean", {0.0, [](double a, double b) { return a + b; }, true}},
        {"ReduceProd", {1.0, [](double a, double b) { return a * b; }}},
        {"ReduceMax", {-infinity, [](double a, double b) { return std::max(a, b); }}},
        {"ReduceMin", {infinity, [](double a, double b) { return std::min(a, b); }}},
    };
    return table;
}

Outputs reduce(const GraphNode& node, FoldedInputs inputs) {
    const Folded& x = *inputs[0];
    const FoldedReduction& how = reductions().at(node.type());
    const auto stated = integers_of(node, "axes", 1, inputs);
    std::vector<bool> gone(x.shape.size(), !stated || stated->empty());
    if (stated)
        for (const std::int64_t axis : *stated)
            gone[static_cast<std::size_t>(node.axis(axis, std::ssize(x.shape)))] = true;
    const bool keep = node.integer("keepdims", 1) != 0;
    Shape wide;
    Shape kept;
    for (std::size_t d = 0; d < x.shape.size(); ++d) {
        wide.push_back(gone[d] ? 1 : x.shape[d]);
        if (!gone[d] || keep) kept.push_back(wide.back());
    }
    Folded out = new_constant(node, wide, x.whole);
    std::fill(out.values.begin(), out.values.end(), how.start);
    const Shape strides = strides_of(wide);
    std::size_t next = 0;
    for_places(x.shape, [&](const Shape& place) {
        std::int64_t to = 0;
        for (std::size_t d = 0; d < wide.size(); ++d) to += gone[d] ? 0 : place[d] * strides[d];
        double& value = out.values[static_cast<std::size_t>(to)];
        value = how.join(value, x.values[next++]);
    });
    const double count = out.values.empty()
                             ? 1.0
                             : static_cast<double>(x.values.size()) / static_cast<double>(out.values.size());
    for (double& value : out.values) value = rounded(how.mean ? value / count : value, x.whole);
    out.shape = kept;
    return {out};
}

// Of the elements before each along an axis, itself among them unless "exclusive".
Outputs running_sum(const GraphNode& node, FoldedInputs inputs) {
    const Folded& x = *inputs[0];
    if (inputs[1]->values.size() != 1) node.fail("its axis must be a scalar");
    const auto axis = static_cast<std::size_t>(
        node.axis(static_cast<std::int64_t>(inputs[1]->values[0]), std::ssize(x.shape)));
    const bool exclusive = node.integer("exclusive", 0) != 0;
    const bool reverse = node.integer("reverse", 0) != 0;
    Folded out = new_constant(node, x.shape, x.whole);
    const auto stride = static_cast<std::size_t>(strides_of(x.shape)[axis]);
    const auto length = static_cast<std::size_t>(x.shape[axis]);
    for (std::size_t i = 0; i < out.values.size(); ++i) {
        if (i / stride % length != 0) continue;  // each row from its first element
        double sum = 0.0;
        for (std::size_t k = 0; k < length; ++k) {
            const std::size_t at = i + (reverse ? length - 1 - k : k) * stride;
            if (exclusive) out.values[at] = sum;
            sum = rounded(sum + x.values[at], x.whole);
            if (!exclusive) out.values[at] = sum;
        }
    }
    return {out};
}

Outputs where(const GraphNode& node, FoldedInputs inputs) {
    const bool whole = inputs[1]->whole;
    const Folded yes =
        elementwise(node, *inputs[0], *inputs[1], whole, [](double c, double x) { return c != 0 ? x : 0; });
    const Folded no =
        elementwise(node, *inputs[0], *inputs[2], whole, [](double c, double x) { return c != 0 ? 0 : x; });
    return {elementwise(node, yes, no, whole, [](double a, double b) { return a + b; })};
}

Outputs clip(const GraphNode& node, FoldedInputs inputs) {
    Folded out = *inputs[0];
    const auto bound = [&](std::size_t input, const char* attribute, double otherwise) {
        if (input < inputs.size() && inputs[input] != nullptr && !inputs[input]->values.empty())
            return inputs[input]->values[0];
        return static_cast<double>(node.number(attribute, static_cast<float>(otherwise)));
    };
    const double low = bound(1, "min", std::numeric_limits<float>::lowest());
    const double high = bound(2, "max", std::numeric_limits<float>::max());
    for (double& value : out.values) value = std::min(std::max(value, low), high);
    return {out};
}

// (x - zero point) * scale, one of each or one for each element of a dimension.
Outputs dequantise(const GraphNode& node, FoldedInputs inputs) {
    const Folded& x = *inputs[0];
    if (node.integer("block_size", 0) != 0) node.fail("its block_size is not supported");
    const Folded* const zero = inputs.size() > 2 ? inputs[2] : nullptr;
    const std::size_t many = inputs[1]->values.size();
    std::int64_t inner = 1;
    if (many != 1) {
        const std::int64_t axis = node.axis(node.integer("axis", 1), std::ssize(x.shape));
        if (x.shape[static_cast<std::size_t>(axis)] != static_cast<std::int64_t>(many))
            node.fail("its scales do not match its input");
        inner = element_count({x.shape.begin() + axis + 1, x.shape.end()});
    }
    if (zero != nullptr && zero->values.size() != many) node.fail("its zero points do not match its scales");
    Folded out = new_constant(node, x.shape, false);
    for (std::size_t i = 0; i < out.values.size(); ++i) {
        const std::size_t at = many == 1 ? 0 : i / static_cast<std::size_t>(inner) % many;
        const double from = zero == nullptr ? 0.0 : zero->values[at];
        out.values[i] = rounded((x.values[i] - from) * inputs[1]->values[at], false);
    }
    return {out};
}

Outputs multiply(const GraphNode& node, FoldedInputs inputs) {
    const Folded& a = *inputs[0];
    const Folded& b = *inputs[1];
    if (a.shape.size() != 2 || b.shape.size() != 2 || a.shape[1] != b.shape[0])
        node.fail(fmt::format("multiplies the constants {} and {}, which is not supported",
                              to_string(a.shape), to_string(b.shape)));
    if (a.shape[0] * a.shape[1] > largest_folded / std::max<std::int64_t>(1, b.shape[1]))
        node.fail("multiplies constants that are too large");
    Folded out = new_constant(node, {a.shape[0], b.shape[1]}, a.whole && b.whole);
    const auto depth = static_cast<std::size_t>(a.shape[1]);
    const auto columns = static_cast<std::size_t>(b.shape[1]);
    for (std::size_t i = 0; i < out.values.size(); ++i) {
        for (std::size_t k = 0; k < depth; ++k)
            out.values[i] += a.values[i / columns * depth + k] * b.values[k * columns + i % columns];
        out.values[i] = rounded(out.values[i], out.whole);
    }
    return {out};
}

// Two inputs or more, one after another; `truths` when the result is one.
Outputs combine(const GraphNode& node, FoldedInputs inputs, const Binary& function, bool truths) {
    if (truths && inputs.size() != 2) node.fail("needs two inputs");
    Folded out = *inputs[0];
    for (std::size_t i = 1; i < inputs.size(); ++i) {
        if (inputs[i] == nullptr) node.fail("an input is missing");
        out = elementwise(node, out, *inputs[i], truths || (out.whole && inputs[i]->whole), function);
    }
    return {out};
}

Outputs remainder(const GraphNode& node, FoldedInputs inputs) {
    const bool of_c = node.integer("fmod", 0) != 0;
    return combine(
        node, inputs,
        [of_c](double a, double b) {
            return of_c ? std::fmod(a, b) : b == 0 ? 0 : a - b * std::floor(a / b);
        },
        false);
}

}  // namespace

const FoldingRules& arithmetic_rules() {
    static const FoldingRules rules = [] {
        FoldingRules all = {
            {"Clip", {1, clip}},       {"CumSum", {2, running_sum}}, {"DequantizeLinear", {2, dequantise}},
            {"MatMul", {2, multiply}}, {"Mod", {1, remainder}},      {"Where", {3, where}}};
        for (const auto& [name, function] : arithmetic())
            all[name] = {1, [&function](const GraphNode& node, FoldedInputs inputs) {
                             return combine(node, inputs, function, false);
                         }};
        for (const auto& [name, function] : comparisons())
            all[name] = {1, [&function](const GraphNode& node, FoldedInputs inputs) {
                             return combine(node, inputs, function, true);
                         }};
        for (const auto& [name, function] : functions())
            all[name] = {1, [&function](const GraphNode&, FoldedInputs inputs) {
                             Folded out = *inputs[0];
                             for (double& value : out.values) value = rounded(function(value), out.whole);
                             return Outputs{out};
                         }};
        for (const auto& [name, reduction] : reductions()) all[name] = {1, reduce};
        return all;
    }();
    return rules;
}

}  // namespace jevrin::inline v1
