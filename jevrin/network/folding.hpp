// Values of a stored graph that are known before any image is seen: constants, shapes, and the arithmetic
// that exporters leave between them.
//
// The size of the batch is not known; a prime number larger than any dimension stands for it, so arithmetic
// with shapes is plain arithmetic, and a number that this prime divides came from the batch.
#pragma once

#include "jevrin/network/graph_node.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin {

inline constexpr std::int64_t batch_prime = 1'048'583;  // the first above 2^20

struct Folded {
    Shape shape;
    std::vector<double> values;
    bool whole = false;  // integers or truths; otherwise each value is rounded to float32

    std::vector<std::int64_t> integers() const { return {values.begin(), values.end()}; }
};

// Whether nodes of this kind can be computed when all their inputs are known.
bool can_fold(const std::string& type);
std::vector<std::string> foldable_operators();

// The outputs of a node. inputs has one entry per input, null for those that are left out. InputError names
// the node.
std::vector<Folded> fold(const GraphNode& node, std::span<const Folded* const> inputs);

// What moving operators do to dimensions, for folded values and for those of images alike.

// The shape that a Reshape asks for: 0 keeps a dimension, -1 takes what is left of `total` elements.
Shape reshape_target(const GraphNode& node, const Shape& from, std::span<const std::int64_t> stated,
                     std::int64_t total);
// Along each dimension the start, step and count of a Slice.
struct SliceRange {
    std::int64_t axis = 0;
    std::int64_t start = 0;
    std::int64_t step = 1;
    std::int64_t count = 0;
};
std::vector<SliceRange> slice_ranges(const GraphNode& node, const Shape& shape,
                                     std::span<const Folded* const> inputs);
// The lengths of the outputs of a Split along an axis of this size.
std::vector<std::int64_t> split_sizes(const GraphNode& node, std::int64_t size,
                                      std::span<const Folded* const> inputs);
// The list of an attribute, or of an input in later operator sets; nothing when neither is there.
std::optional<std::vector<std::int64_t>> integers_of(const GraphNode& node, const std::string& attribute,
                                                     int input, std::span<const Folded* const> inputs);
// The dimensions without those that a Squeeze drops, or with those that an Unsqueeze adds, as places in the
// old shape; -1 stands for a new dimension of 1.
std::vector<std::int64_t> squeezed(const GraphNode& node, const Shape& shape,
                                   std::span<const Folded* const> inputs);
std::vector<std::int64_t> unsqueezed(const GraphNode& node, std::int64_t rank,
                                     std::span<const Folded* const> inputs);
// What a Shape gives: all dimensions, or those from a first to a last one.
Folded shape_value(const GraphNode& node, const Shape& shape);
// The permutation of a Transpose.
std::vector<std::int64_t> permutation_of(const GraphNode& node, std::int64_t rank);

}  // namespace jevrin
