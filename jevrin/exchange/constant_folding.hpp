// Constant folding: values of a stored graph that do not depend on the image (constants, shapes, and the
// arithmetic between them) are computed while reading.
//
// The size of the batch is not known; a prime number larger than any dimension stands for it, so arithmetic
// with shapes is plain arithmetic, and a number that this prime divides came from the batch.
#pragma once

#include "jevrin/exchange/graph_node.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

inline constexpr std::int64_t batch_prime = 1'048'583;  // the first above 2^20

// How the values of a constant follow from weights that the file stores: not at all, as these weights in some
// order and shape, or by any other computation.
enum class Origin { none, weight, computed };

struct Folded {
    Shape shape;
    std::vector<double> values;
    bool whole = false;    // integers or truths; otherwise each value is rounded to float32
    int element_type = 0;  // as the file numbers them, where it states the constant itself
    Origin origin = Origin::none;
    std::string weight = {};  // the name of these weights

    std::vector<std::int64_t> integers() const { return {values.begin(), values.end()}; }
};

// One per input of a node, null for those that are left out.
using FoldedInputs = std::span<const Folded* const>;
std::vector<const Folded*> pointers_to(const std::vector<std::shared_ptr<const Folded>>& inputs);

// A constant repeated to a shape that it broadcasts to. InputError names the node when it does not.
Folded broadcast_to(const GraphNode& node, const Folded& constant, const Shape& shape);

// Whether nodes of this kind can be computed when all their inputs are known.
bool can_fold(const std::string& type);
std::vector<std::string> foldable_operators();

// The outputs of a node, with their origin. InputError names the node.
std::vector<Folded> fold(const GraphNode& node, FoldedInputs inputs);

}  // namespace jevrin::inline v1
