#include "jevrin/exchange/constant_folding.hpp"

#include "jevrin/exchange/moved_dimensions.hpp"
#include "jevrin/exchange/stored_model.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <algorithm>
#include <cmath>
#include <functional>
#include <limits>
#include <map>
#include <numeric>
#include <set>

namespace jevrin::inline v1 {
namespace {

using Outputs = std::vector<Folded>;

// Constants beyond this many elements are not computed: no exporter leaves such arithmetic behind.
constexpr std::int64_t largest_folded = 1 << 24;

Folded make(const GraphNode& node, Shape shape, bool whole) {
    std::int64_t count = 1;
    for (const std::int64_t size : shape) {
        if (size < 0 || (size > 0 && count > largest_folded / size))
            node.fail(fmt::format("computes a constant of {}, which is too large", to_string(shape)));
        count *= size;
    }
    return {std::move(shape), std::vector<double>(static_cast<std::size_t>(count)), whole};
}

double rounded(double value, bool whole) {
    return whole ? std::trunc(value) : static_cast<double>(static_cast<float>(value));
}

// Elements to move along each dimension.
Shape strides_of(const Shape& shape) {
    Shape strides(shape.size(), 1);
    for (std::size_t d = shape.size(); d-- > 1;) strides[d - 1] = strides[d] * shape[d];
    return strides;
}

// Calls visit(place) for each place of a shape, last dimension fastest.
template <typename Visit>
void for_places(const Shape& shape, Visit visit) {
    const std::int64_t count = element_count(shape);
    Shape place(shape.size(), 0);
    for (std::int64_t i = 0; i < count; ++i) {
        visit(place);
        for (std::size_t d = shape.size(); d-- > 0;) {
            if (++place[d] < shape[d]) break;
            place[d] = 0;
        }
    }
}

// An output whose element at each place is that of x at source(place).
template <typename Source>
Folded moved(const GraphNode& node, const Folded& x, Shape shape, Source source) {
    Folded out = make(node, std::move(shape), x.whole);
    const Shape strides = strides_of(x.shape);
    std::size_t next = 0;
    for_places(out.shape, [&](const Shape& place) {
        const Shape from = source(place);
        std::int64_t offset = 0;
        for (std::size_t d = 0; d < strides.size(); ++d) offset += from[d] * strides[d];
        out.values[next++] = x.values[static_cast<std::size_t>(offset)];
    });
    return out;
}

// x repeated to a shape that it broadcasts to.
Folded broadcast(const GraphNode& node, const Folded& x, const Shape& shape) {
    if (x.shape == shape) return x;
    if (broadcast_shape(x.shape, shape) != shape)
        node.fail(fmt::format("cannot broadcast {} to {}", to_string(x.shape), to_string(shape)));
    return moved(node, x, shape, [&](const Shape& place) {
        Shape from(x.shape.size());
        for (std::size_t d = 0; d < from.size(); ++d)
            from[d] = x.shape[d] == 1 ? 0 : place[place.size() - from.size() + d];
        return from;
    });
}

Folded elementwise(const GraphNode& node, const Folded& a, const Folded& b, bool whole,
                   const std::function<double(double, double)>& function) {
    const std::optional<Shape> shape = broadcast_shape(a.shape, b.shape);
    if (!shape) node.fail(fmt::format("gets {} and {}", to_string(a.shape), to_string(b.shape)));
    const Folded left = broadcast(node, a, *shape);
    const Folded right = broadcast(node, b, *shape);
    Folded out = make(node, *shape, whole);
    for (std::size_t i = 0; i < out.values.size(); ++i)
        out.values[i] = rounded(function(left.values[i], right.values[i]), whole);
    return out;
}

}  // namespace

Folded broadcast_to(const GraphNode& node, const Folded& constant, const Shape& shape) {
    return broadcast(node, constant, shape);
}

namespace {

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
        {"Mod", [](double a, double b) { return b == 0 ? 0 : a - b * std::floor(a / b); }},
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
    Folded out = make(node, wide, x.whole);
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

Outputs joined(const GraphNode& node, FoldedInputs inputs) {
    const Folded& first = *inputs[0];
    const auto axis = static_cast<std::size_t>(node.axis(node.integer("axis", 0), std::ssize(first.shape)));
    Shape shape = first.shape;
    shape[axis] = 0;
    for (const Folded* input : inputs) {
        Shape other = input->shape;
        if (other.size() != shape.size()) node.fail("its inputs differ in their number of dimensions");
        const std::int64_t length = std::exchange(other[axis], 0);
        Shape common = shape;
        common[axis] = 0;
        if (other != common) node.fail("its inputs do not fit together");
        shape[axis] += length;
    }
    Folded out = make(node, shape, first.whole);
    const std::int64_t outer =
        std::accumulate(shape.begin(), shape.begin() + static_cast<std::ptrdiff_t>(axis), std::int64_t{1},
                        std::multiplies<>());
    std::size_t next = 0;
    for (std::int64_t o = 0; o < outer; ++o)
        for (const Folded* input : inputs) {
            const std::int64_t run = std::ssize(input->values) / std::max<std::int64_t>(1, outer);
            for (std::int64_t i = 0; i < run; ++i)
                out.values[next++] = input->values[static_cast<std::size_t>(o * run + i)];
        }
    return {out};
}

Outputs gather(const GraphNode& node, FoldedInputs inputs) {
    const Folded& x = *inputs[0];
    const Folded& places = *inputs[1];
    const auto axis = static_cast<std::size_t>(node.axis(node.integer("axis", 0), std::ssize(x.shape)));
    Shape shape(x.shape.begin(), x.shape.begin() + static_cast<std::ptrdiff_t>(axis));
    shape.insert(shape.end(), places.shape.begin(), places.shape.end());
    shape.insert(shape.end(), x.shape.begin() + static_cast<std::ptrdiff_t>(axis) + 1, x.shape.end());
    const Shape place_strides = strides_of(places.shape);
    return {moved(node, x, shape, [&](const Shape& place) {
        Shape from(place.begin(), place.begin() + static_cast<std::ptrdiff_t>(axis));
        std::int64_t index = 0;
        for (std::size_t d = 0; d < places.shape.size(); ++d) index += place[axis + d] * place_strides[d];
        auto taken = static_cast<std::int64_t>(places.values[static_cast<std::size_t>(index)]);
        if (taken < 0) taken += x.shape[axis];
        if (taken < 0 || taken >= x.shape[axis]) node.fail("its index is out of range");
        from.push_back(taken);
        from.insert(from.end(), place.begin() + static_cast<std::ptrdiff_t>(axis + places.shape.size()),
                    place.end());
        return from;
    })};
}

Outputs slice(const GraphNode& node, FoldedInputs inputs) {
    const Folded& x = *inputs[0];
    Shape shape = x.shape;
    std::vector<SliceRange> of(shape.size());
    for (const SliceRange& range : slice_ranges(node, x.shape, inputs)) {
        of[static_cast<std::size_t>(range.axis)] = range;
        shape[static_cast<std::size_t>(range.axis)] = range.count;
    }
    return {moved(node, x, shape, [&](Shape place) {
        for (std::size_t d = 0; d < place.size(); ++d) place[d] = of[d].start + place[d] * of[d].step;
        return place;
    })};
}

Outputs split(const GraphNode& node, FoldedInputs inputs) {
    const Folded& x = *inputs[0];
    const auto axis = static_cast<std::size_t>(node.axis(node.integer("axis", 0), std::ssize(x.shape)));
    Outputs outputs;
    std::int64_t start = 0;
    for (const std::int64_t size : split_sizes(node, x.shape[axis], inputs)) {
        Shape shape = x.shape;
        shape[axis] = size;
        outputs.push_back(moved(node, x, shape, [&](Shape place) {
            place[axis] += start;
            return place;
        }));
        start += size;
    }
    return outputs;
}

Outputs transpose(const GraphNode& node, FoldedInputs inputs) {
    const Folded& x = *inputs[0];
    const auto permutation = permutation_of(node, std::ssize(x.shape));
    Shape shape;
    for (const std::int64_t d : permutation) shape.push_back(x.shape[static_cast<std::size_t>(d)]);
    return {moved(node, x, shape, [&](const Shape& place) {
        Shape from(place.size());
        for (std::size_t d = 0; d < place.size(); ++d)
            from[static_cast<std::size_t>(permutation[d])] = place[d];
        return from;
    })};
}

Outputs tile(const GraphNode& node, FoldedInputs inputs) {
    const Folded& x = *inputs[0];
    if (inputs[1]->values.size() != x.shape.size())
        node.fail("its repeats do not match the number of dimensions");
    Shape shape = x.shape;
    for (std::size_t d = 0; d < shape.size(); ++d)
        shape[d] *= static_cast<std::int64_t>(inputs[1]->values[d]);
    return {moved(node, x, shape, [&](Shape place) {
        for (std::size_t d = 0; d < place.size(); ++d) place[d] %= x.shape[d];
        return place;
    })};
}

Outputs range(const GraphNode& node, FoldedInputs inputs) {
    if (inputs.size() < 3) node.fail("needs start, limit and delta");
    for (const Folded* input : inputs)
        if (input->values.size() != 1) node.fail("its start, limit and delta must be scalars");
    const double start = inputs[0]->values[0];
    const double step = inputs[2]->values[0];
    const double count = step == 0 ? -1 : std::ceil((inputs[1]->values[0] - start) / step);
    if (!(count <= static_cast<double>(largest_folded))) node.fail("its range is infinite or too long");
    Folded out = make(node, {static_cast<std::int64_t>(std::max(0.0, count))}, inputs[0]->whole);
    for (std::size_t i = 0; i < out.values.size(); ++i)
        out.values[i] = rounded(start + static_cast<double>(i) * step, out.whole);
    return {out};
}

Outputs constant(const GraphNode& node) {
    if (const auto* value = node.attribute("value")) {
        const StoredTensor tensor(value->t());
        Folded out = make(node, tensor.shape(), tensor.whole());
        out.element_type = tensor.element_type();
        tensor.read(0, std::span<double>(out.values));
        return {out};
    }
    if (const auto* one = node.attribute("value_float")) return {Folded{{}, {one->f()}, false}};
    if (const auto* one = node.attribute("value_int"))
        return {Folded{{}, {static_cast<double>(one->i())}, true}};
    if (const auto* many = node.attribute("value_floats"))
        return {Folded{{many->floats_size()}, {many->floats().begin(), many->floats().end()}, false}};
    if (const auto* many = node.attribute("value_ints"))
        return {Folded{{many->ints_size()}, {many->ints().begin(), many->ints().end()}, true}};
    node.fail("its constant has an unsupported type");
}

Outputs constant_of_shape(const GraphNode& node, FoldedInputs inputs) {
    Folded out = make(node, inputs[0]->integers(), false);
    if (const auto* value = node.attribute("value")) {
        const StoredTensor tensor(value->t());
        if (tensor.size() != 1) node.fail("its value must be a scalar");
        double one = 0.0;
        tensor.read(0, std::span<double>(&one, 1));
        std::fill(out.values.begin(), out.values.end(), one);
        out.whole = tensor.whole();
    }
    return {out};
}

Outputs cast(const GraphNode& node, FoldedInputs inputs) {
    Folded out = *inputs[0];
    const std::int64_t to = node.integer("to", onnx::TensorProto::FLOAT);
    out.whole = to != onnx::TensorProto::FLOAT && to != onnx::TensorProto::DOUBLE &&
                to != onnx::TensorProto::FLOAT16 && to != onnx::TensorProto::BFLOAT16;
    for (double& value : out.values)
        value = to == onnx::TensorProto::BOOL ? (value != 0 ? 1.0 : 0.0) : rounded(value, out.whole);
    return {out};
}

Outputs with_shape(const Folded& x, Shape shape) {
    Folded out = x;
    out.shape = std::move(shape);
    return {out};
}

Outputs reordered(const GraphNode& node, FoldedInputs inputs, const std::vector<std::int64_t>& dimensions) {
    static_cast<void>(node);
    Shape shape;
    for (const std::int64_t d : dimensions)
        shape.push_back(d < 0 ? 1 : inputs[0]->shape[static_cast<std::size_t>(d)]);
    return with_shape(*inputs[0], shape);
}

Outputs expand(const GraphNode& node, FoldedInputs inputs) {
    const auto shape = broadcast_shape(inputs[0]->shape, inputs[1]->integers());
    if (!shape) node.fail("cannot broadcast its input to that shape");
    return {broadcast(node, *inputs[0], *shape)};
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
    Folded out = make(node, x.shape, false);
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
    Folded out = make(node, {a.shape[0], b.shape[1]}, a.whole && b.whole);
    const auto depth = static_cast<std::size_t>(a.shape[1]);
    const auto columns = static_cast<std::size_t>(b.shape[1]);
    for (std::size_t i = 0; i < out.values.size(); ++i) {
        for (std::size_t k = 0; k < depth; ++k)
            out.values[i] += a.values[i / columns * depth + k] * b.values[k * columns + i % columns];
        out.values[i] = rounded(out.values[i], out.whole);
    }
    return {out};
}

// The upper or lower triangle of matrices, zeros elsewhere.
Outputs triangle(const GraphNode& node, FoldedInputs inputs) {
    Folded out = *inputs[0];
    if (out.shape.size() < 2) node.fail("its input is not a matrix");
    const bool has_offset = inputs.size() > 1 && inputs[1] != nullptr && !inputs[1]->values.empty();
    const auto offset = static_cast<std::int64_t>(has_offset ? inputs[1]->values[0] : 0.0);
    const bool upper = node.integer("upper", 1) != 0;
    const std::int64_t columns = out.shape.back();
    const std::int64_t rows = out.shape[out.shape.size() - 2];
    for (std::int64_t i = 0; i < std::ssize(out.values); ++i) {
        const std::int64_t away = i % columns - i / columns % rows;
        if (upper ? away < offset : away > offset) out.values[static_cast<std::size_t>(i)] = 0.0;
    }
    return {out};
}

using Fold = std::function<Outputs(const GraphNode&, FoldedInputs)>;

struct FoldRule {
    int least_inputs;
    Fold fold;
};

const std::map<std::string, FoldRule>& rules() {
    static const std::map<std::string, FoldRule> table = {
        {"Constant", {0, [](const GraphNode& n, FoldedInputs) { return constant(n); }}},
        {"ConstantOfShape", {1, constant_of_shape}},
        {"Cast", {1, cast}},
        {"CastLike",
         {2,
          [](const GraphNode&, FoldedInputs in) {
              Folded out = *in[0];
              out.whole = in[1]->whole;
              for (double& v : out.values) v = rounded(v, out.whole);
              return Outputs{out};
          }}},
        {"Clip", {1, clip}},
        {"DequantizeLinear", {2, dequantise}},
        {"MatMul", {2, multiply}},
        {"Trilu", {1, triangle}},
        {"Concat", {1, joined}},
        {"Gather", {2, gather}},
        {"Slice", {1, slice}},
        {"Split", {1, split}},
        {"Transpose", {1, transpose}},
        {"Tile", {2, tile}},
        {"Range", {3, range}},
        {"Expand", {2, expand}},
        {"Where", {3, where}},
        {"Reshape",
         {1,
          [](const GraphNode& n, FoldedInputs in) {
              const auto stated = integers_of(n, "shape", 1, in).value_or(std::vector<std::int64_t>());
              return with_shape(*in[0], reshape_target(n, in[0]->shape, stated, std::ssize(in[0]->values)));
          }}},
        {"Flatten",
         {1,
          [](const GraphNode& n, FoldedInputs in) {
              const Shape& s = in[0]->shape;
              const auto axis = static_cast<std::ptrdiff_t>(
                  n.integer("axis", 1) < 0 ? n.integer("axis", 1) + std::ssize(s) : n.integer("axis", 1));
              if (axis < 0 || axis > std::ssize(s)) n.fail("its axis is out of range");
              return with_shape(*in[0], {element_count({s.begin(), s.begin() + axis}),
                                         element_count({s.begin() + axis, s.end()})});
          }}},
        {"Squeeze",
         {1, [](const GraphNode& n,
                FoldedInputs in) { return reordered(n, in, squeezed(n, in[0]->shape, in)); }}},
        {"Unsqueeze",
         {1, [](const GraphNode& n,
                FoldedInputs in) { return reordered(n, in, unsqueezed(n, std::ssize(in[0]->shape), in)); }}},
        {"Shape",
         {1, [](const GraphNode& n, FoldedInputs in) { return Outputs{shape_value(n, in[0]->shape)}; }}},
        {"Size",
         {1,
          [](const GraphNode&, FoldedInputs in) {
              return Outputs{Folded{{}, {static_cast<double>(element_count(in[0]->shape))}, true}};
          }}},
    };
    return table;
}

}  // namespace

bool can_fold(const std::string& type) {
    return rules().count(type) + arithmetic().count(type) + comparisons().count(type) +
               functions().count(type) + reductions().count(type) >
           0;
}

std::vector<std::string> foldable_operators() {
    std::vector<std::string> names;
    const auto add = [&](const auto& table) {
        for (const auto& [name, entry] : table) names.push_back(name);
    };
    add(rules());
    add(arithmetic());
    add(comparisons());
    add(functions());
    add(reductions());
    return names;
}

namespace {

// Marked in files of our own: a constant that does not train.
bool is_fixed(const GraphNode& node) {
    return node.type() == "Constant" && node.description() == fixed_constant;
}

// What only moves every element once keeps weights what they are.
bool only_reorders(const std::string& type) {
    static const std::set<std::string> types = {"Identity",  "Reshape",   "Flatten", "Squeeze",
                                                "Unsqueeze", "Transpose", "Cast"};
    return types.contains(type);
}

// What takes every element at most once makes other weights of them.
bool only_takes(const GraphNode& node, FoldedInputs inputs) {
    const std::string& type = node.type();
    if (type == "Slice" || type == "Split") return inputs[0]->origin == Origin::weight;
    if (type == "Concat")
        return std::ranges::all_of(inputs,
                                   [](const Folded* input) { return input->origin == Origin::weight; });
    if (type != "Gather" || inputs[0]->origin != Origin::weight) return false;
    const std::set<double> places(inputs[1]->values.begin(), inputs[1]->values.end());
    return places.size() == inputs[1]->values.size();
}

void note_origin(const GraphNode& node, FoldedInputs inputs, std::vector<Folded>& outputs) {
    for (std::size_t i = 0; i < outputs.size(); ++i) {
        Folded& output = outputs[i];
        if (output.whole || output.values.size() < 2) continue;
        if (node.type() == "Constant" && !is_fixed(node)) {
            output.origin = Origin::weight;
            output.weight = node.output();
        }
        for (const Folded* input : inputs) {
            if (input == nullptr || input->origin == Origin::none) continue;
            output.origin = only_reorders(node.type()) ? input->origin : Origin::computed;
            output.weight = input->weight;
            break;
        }
        if (output.origin == Origin::computed && only_takes(node, inputs)) {
            output.origin = Origin::weight;
            output.weight = node.output(static_cast<int>(i));
        }
    }
}

std::vector<Folded> fold_values(const GraphNode& node, FoldedInputs inputs) {
    const std::string& type = node.type();
    if (const auto rule = rules().find(type); rule != rules().end()) {
        node.expect_inputs(rule->second.least_inputs, 1 << 16);
        for (int i = 0; i < rule->second.least_inputs; ++i)
            if (inputs[static_cast<std::size_t>(i)] == nullptr) node.fail("an input is missing");
        return rule->second.fold(node, inputs);
    }
    node.expect_inputs(1, 1 << 16);
    if (reductions().count(type) != 0) return reduce(node, inputs);
    if (const auto function = functions().find(type); function != functions().end()) {
        Folded out = *inputs[0];
        for (double& value : out.values) value = rounded(function->second(value), out.whole);
        return {out};
    }
    const bool compares = comparisons().count(type) != 0;
    Binary join = compares ? comparisons().at(type) : arithmetic().at(type);
    if (type == "Mod" && node.integer("fmod", 0) != 0)
        join = [](double a, double b) { return std::fmod(a, b); };
    Folded out = *inputs[0];
    if (compares && inputs.size() != 2) node.fail("needs two inputs");
    for (std::size_t i = 1; i < inputs.size(); ++i)
        out = elementwise(node, out, *inputs[i], compares || (out.whole && inputs[i]->whole), join);
    return {out};
}

}  // namespace

std::vector<Folded> fold(const GraphNode& node, FoldedInputs inputs) {
    std::vector<Folded> outputs = fold_values(node, inputs);
    note_origin(node, inputs, outputs);
    return outputs;
}

}  // namespace jevrin::inline v1
