#include "jevrin/exchange/moved_dimensions.hpp"

#include "jevrin/exchange/stored_model.hpp"

#include <algorithm>
#include <limits>
#include <numeric>

namespace jevrin::inline v1 {

Shape reshape_target(const GraphNode& node, const Shape& from, std::span<const std::int64_t> stated,
                     std::int64_t total) {
    Shape shape(stated.begin(), stated.end());
    std::int64_t known = 1;
    std::ptrdiff_t open = -1;
    for (std::size_t d = 0; d < shape.size(); ++d) {
        if (shape[d] == 0 && node.integer("allowzero", 0) == 0) {
            if (d >= from.size()) node.fail("copies a dimension that its input does not have");
            shape[d] = from[d];
        }
        if (shape[d] == -1) {
            if (open >= 0) node.fail("has two dimensions of -1");
            open = static_cast<std::ptrdiff_t>(d);
            continue;
        }
        if (shape[d] < 0 || (shape[d] > 0 && known > std::numeric_limits<std::int64_t>::max() / shape[d]))
            node.fail(fmt::format("requests the invalid shape {}", to_string(shape)));
        known *= shape[d];
    }
    if (open >= 0 && known > 0 && total % known == 0) {
        shape[static_cast<std::size_t>(open)] = total / known;
        known = total;
    }
    if (known != total || std::count(shape.begin(), shape.end(), -1) > 0)
        node.fail(fmt::format("cannot reshape {} to {}", to_string(from),
                              to_string({stated.begin(), stated.end()})));
    return shape;
}

std::optional<std::vector<std::int64_t>> integers_of(const GraphNode& node, const std::string& attribute,
                                                     int input, FoldedInputs inputs) {
    if (auto stated = node.integers(attribute)) return stated;
    if (!node.has_input(input)) return std::nullopt;
    const Folded* known = inputs[static_cast<std::size_t>(input)];
    if (known == nullptr) node.fail(fmt::format("its {} depend on the image", attribute));
    return known->integers();
}

std::vector<SliceRange> slice_ranges(const GraphNode& node, const Shape& shape, FoldedInputs inputs) {
    const auto rank = std::ssize(shape);
    const auto starts = integers_of(node, "starts", 1, inputs);
    const auto ends = integers_of(node, "ends", 2, inputs);
    if (!starts || !ends) node.fail("its starts or ends are missing");
    std::vector<std::int64_t> all(starts->size());
    std::iota(all.begin(), all.end(), std::int64_t{0});
    const auto axes = integers_of(node, "axes", 3, inputs).value_or(all);
    const auto steps =
        integers_of(node, "steps", 4, inputs).value_or(std::vector<std::int64_t>(starts->size(), 1));
    if (ends->size() != starts->size() || axes.size() != starts->size() || steps.size() != starts->size())
        node.fail("its starts, ends, axes and steps differ in number");
    std::vector<SliceRange> ranges;
    for (std::size_t i = 0; i < axes.size(); ++i) {
        SliceRange range{.axis = node.axis(axes[i], rank), .step = steps[i]};
        const std::int64_t size = shape[static_cast<std::size_t>(range.axis)];
        if (range.step == 0) node.fail("its step is 0");
        const bool back = range.step < 0;
        const auto clamp = [&](std::int64_t place) {
            if (place < 0) place = std::max<std::int64_t>(place, -size - 1) + size;
            return back ? std::clamp<std::int64_t>(place, -1, size - 1)
                        : std::clamp<std::int64_t>(place, 0, size);
        };
        range.start = clamp((*starts)[i]);
        if (back) range.start = std::max<std::int64_t>(range.start, 0);
        // Beyond the front when it counts back: everything down to the first.
        const std::int64_t end = back && (*ends)[i] < -size ? -1 : clamp((*ends)[i]);
        const std::int64_t length = back ? range.start - end : end - range.start;
        const std::int64_t step = std::min<std::int64_t>(std::abs(range.step), std::int64_t{1} << 40);
        range.count = length <= 0 ? 0 : (length - 1) / step + 1;
        ranges.push_back(range);
    }
    return ranges;
}

std::vector<std::int64_t> split_sizes(const GraphNode& node, std::int64_t size, FoldedInputs inputs) {
    if (auto stated = integers_of(node, "split", 1, inputs)) {
        std::int64_t sum = 0;
        for (const std::int64_t s : *stated) {
            if (s < 0 || s > size) node.fail("its split sizes do not sum to the size of the dimension");
            sum += s;
        }
        if (sum != size || std::ssize(*stated) != node.outputs())
            node.fail("its split sizes do not sum to the size of the dimension");
        return *stated;
    }
    const std::int64_t parts = node.integer("num_outputs", node.outputs());
    if (parts < node.outputs() || parts > largest_dimension)
        node.fail(
            fmt::format("its num_outputs is {} and it has {}", parts, plural(node.outputs(), "output")));
    if (size % parts == 0) return std::vector<std::int64_t>(static_cast<std::size_t>(parts), size / parts);
    // With their number stated the last part may be smaller.
    const std::int64_t each = (size + parts - 1) / parts;
    std::vector<std::int64_t> all(static_cast<std::size_t>(parts), each);
    all.back() = size - each * (parts - 1);
    if (node.attribute("num_outputs") == nullptr || all.back() < 1)
        node.fail(fmt::format("cannot split {} into {} equal parts", size, parts));
    return all;
}

std::vector<std::int64_t> squeezed(const GraphNode& node, const Shape& shape, FoldedInputs inputs) {
    const auto axes = integers_of(node, "axes", 1, inputs);
    std::vector<bool> gone(shape.size());
    for (std::size_t d = 0; d < shape.size(); ++d) gone[d] = !axes && shape[d] == 1;
    if (axes)
        for (const std::int64_t stated : *axes) {
            const auto axis = static_cast<std::size_t>(node.axis(stated, std::ssize(shape)));
            if (shape[axis] != 1)
                node.fail(fmt::format("squeezes dimension {} of {}, which is not 1", axis, to_string(shape)));
            gone[axis] = true;
        }
    std::vector<std::int64_t> kept;
    for (std::size_t d = 0; d < shape.size(); ++d)
        if (!gone[d]) kept.push_back(static_cast<std::int64_t>(d));
    return kept;
}

std::vector<std::int64_t> unsqueezed(const GraphNode& node, std::int64_t rank, FoldedInputs inputs) {
    const auto axes = integers_of(node, "axes", 1, inputs);
    if (!axes) node.fail("does not name the axes to insert");
    const std::int64_t all = rank + std::ssize(*axes);
    std::vector<std::int64_t> places(static_cast<std::size_t>(all), 0);
    for (const std::int64_t stated : *axes) {
        auto& place = places[static_cast<std::size_t>(node.axis(stated, all))];
        if (place == -1) node.fail("inserts an axis twice");
        place = -1;
    }
    std::int64_t next = 0;
    for (std::int64_t& place : places)
        if (place != -1) place = next++;
    return places;
}

Folded shape_value(const GraphNode& node, const Shape& shape) {
    const auto bound = [&](std::int64_t stated) {
        return std::clamp<std::int64_t>(stated < 0 ? stated + std::ssize(shape) : stated, 0,
                                        std::ssize(shape));
    };
    const std::int64_t start = bound(node.integer("start", 0));
    const std::int64_t end = std::max(start, bound(node.integer("end", std::ssize(shape))));
    return {{end - start}, {shape.begin() + start, shape.begin() + end}, true};
}

std::vector<std::int64_t> permutation_of(const GraphNode& node, std::int64_t rank) {
    std::vector<std::int64_t> backwards(static_cast<std::size_t>(rank));
    std::iota(backwards.rbegin(), backwards.rend(), std::int64_t{0});
    const auto permutation = node.integers("perm").value_or(backwards);
    std::vector<std::int64_t> sorted = permutation;
    std::sort(sorted.begin(), sorted.end());
    std::sort(backwards.begin(), backwards.end());
    if (sorted != backwards) node.fail("its permutation must name each dimension once");
    return permutation;
}

}  // namespace jevrin::inline v1
