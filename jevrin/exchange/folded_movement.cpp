// Constants whose elements are moved, repeated and taken.
#include "jevrin/exchange/folding_rules.hpp"
#include "jevrin/exchange/moved_dimensions.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <algorithm>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

using Outputs = std::vector<Folded>;

// An output whose element at each place is that of x at source(place).
template <typename Source>
Folded moved(const GraphNode& node, const Folded& x, Shape shape, Source source) {
    Folded out = new_constant(node, std::move(shape), x.whole);
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

}  // namespace

Folded broadcast_to(const GraphNode& node, const Folded& constant, const Shape& shape) {
    if (constant.shape == shape) return constant;
    if (broadcast_shape(constant.shape, shape) != shape)
        node.fail(fmt::format("cannot broadcast {} to {}", to_string(constant.shape), to_string(shape)));
    return moved(node, constant, shape, [&](const Shape& place) {
        Shape from(constant.shape.size());
        for (std::size_t d = 0; d < from.size(); ++d)
            from[d] = constant.shape[d] == 1 ? 0 : place[place.size() - from.size() + d];
        return from;
    });
}

namespace {

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
    Folded out = new_constant(node, shape, first.whole);
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

Outputs with_shape(const Folded& x, Shape shape) {
    Folded out = x;
    out.shape = std::move(shape);
    return {out};
}

Outputs reordered(FoldedInputs inputs, const std::vector<std::int64_t>& dimensions) {
    Shape shape;
    for (const std::int64_t d : dimensions)
        shape.push_back(d < 0 ? 1 : inputs[0]->shape[static_cast<std::size_t>(d)]);
    return with_shape(*inputs[0], shape);
}

Outputs expand(const GraphNode& node, FoldedInputs inputs) {
    const auto shape = broadcast_shape(inputs[0]->shape, inputs[1]->integers());
    if (!shape) node.fail("cannot broadcast its input to that shape");
    return {broadcast_to(node, *inputs[0], *shape)};
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

Outputs reshape(const GraphNode& node, FoldedInputs inputs) {
    const Folded& x = *inputs[0];
    const auto stated = integers_of(node, "shape", 1, inputs).value_or(std::vector<std::int64_t>());
    return with_shape(x, reshape_target(node, x.shape, stated, std::ssize(x.values)));
}

Outputs flatten(const GraphNode& node, FoldedInputs inputs) {
    const Shape& s = inputs[0]->shape;
    const std::int64_t stated = node.integer("axis", 1);
    const auto axis = static_cast<std::ptrdiff_t>(stated < 0 ? stated + std::ssize(s) : stated);
    if (axis < 0 || axis > std::ssize(s)) node.fail("its axis is out of range");
    return with_shape(*inputs[0], {element_count({s.begin(), s.begin() + axis}),
                                   element_count({s.begin() + axis, s.end()})});
}

Outputs squeeze(const GraphNode& node, FoldedInputs inputs) {
    return reordered(inputs, squeezed(node, inputs[0]->shape, inputs));
}

Outputs unsqueeze(const GraphNode& node, FoldedInputs inputs) {
    return reordered(inputs, unsqueezed(node, std::ssize(inputs[0]->shape), inputs));
}

}  // namespace

const FoldingRules& movement_rules() {
    static const FoldingRules rules = {
        {"Concat", {1, joined}},       {"Expand", {2, expand}},   {"Flatten", {1, flatten}},
        {"Gather", {2, gather}},       {"Reshape", {1, reshape}}, {"Slice", {1, slice}},
        {"Split", {1, split}},         {"Squeeze", {1, squeeze}}, {"Tile", {2, tile}},
        {"Transpose", {1, transpose}}, {"Trilu", {1, triangle}},  {"Unsqueeze", {1, unsqueeze}},
    };
    return rules;
}

}  // namespace jevrin::inline v1
