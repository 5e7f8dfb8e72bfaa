// The shape arithmetic of moving operators (reshape, slice, transpose ...), for constants and image values.
#pragma once

#include "jevrin/exchange/constant_folding.hpp"

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

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
std::vector<SliceRange> slice_ranges(const GraphNode& node, const Shape& shape, FoldedInputs inputs);
// The lengths of the outputs of a Split along an axis of this size.
std::vector<std::int64_t> split_sizes(const GraphNode& node, std::int64_t size, FoldedInputs inputs);
// The list of an attribute, or of an input in later operator sets; nothing when neither is there.
std::optional<std::vector<std::int64_t>> integers_of(const GraphNode& node, const std::string& attribute,
                                                     int input, FoldedInputs inputs);
// The dimensions without those that a Squeeze drops, or with those that an Unsqueeze adds, as places in the
// old shape; -1 stands for a new dimension of 1.
std::vector<std::int64_t> squeezed(const GraphNode& node, const Shape& shape, FoldedInputs inputs);
std::vector<std::int64_t> unsqueezed(const GraphNode& node, std::int64_t rank, FoldedInputs inputs);
// What a Shape gives: all dimensions, or those from a first to a last one.
Folded shape_value(const GraphNode& node, const Shape& shape);
// The permutation of a Transpose.
std::vector<std::int64_t> permutation_of(const GraphNode& node, std::int64_t rank);

}  // namespace jevrin::inline v1
