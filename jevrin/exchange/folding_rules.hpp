// How nodes between constants are computed, by their kinds.
#pragma once

#include "jevrin/exchange/constant_folding.hpp"

#include <functional>
#include <map>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct FoldingRule {
    int least_inputs = 1;  // none of which may be left out
    std::function<std::vector<Folded>(const GraphNode&, FoldedInputs)> fold;
};
using FoldingRules = std::map<std::string, FoldingRule>;

const FoldingRules& arithmetic_rules();  // folded_arithmetic.cpp
const FoldingRules& movement_rules();    // folded_movement.cpp

// Constants beyond this many elements are not computed: no exporter leaves such arithmetic behind.
inline constexpr std::int64_t largest_folded = 1 << 24;

// Zeros of this shape. InputError when there are too many.
Folded new_constant(const GraphNode& node, Shape shape, bool whole);
// As the values of a constant are kept: integers, or float32.
double rounded(double value, bool whole);

// Elements to move along each dimension.
Shape strides_of(const Shape& shape);

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

}  // namespace jevrin::inline v1
