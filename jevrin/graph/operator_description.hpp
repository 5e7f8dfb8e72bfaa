// Everything about an operator besides its computation, in one place: its name, the roles of its parameters
// (initialisation, weight decay, names in model files) and its multiplications.
#pragma once

#include "jevrin/graph/operators.hpp"

#include <cstdint>
#include <span>
#include <string_view>
#include <vector>

namespace jevrin::inline v1 {

enum class ParameterRole {
    weight,
    bias,
    scale,
    shift,
    mean,      // running statistics of batch normalisation,
    variance,  // likewise
    slope,
    value,  // of a constant
};
// "weight", "bias", ...
std::string_view role_name(ParameterRole role);

struct OperatorDescription {
    std::string_view name;
    std::vector<ParameterRole> roles = {};  // of the parameters, in order; a bias may be left out
    // Begins a row of its own in a table of layers; the others follow the layer before them.
    bool own_row = false;
    // Multiplications for one item from the shapes of the inputs and the output; null: none.
    std::int64_t (*multiplications)(std::span<const Tensor> parameters, const std::vector<Shape>& inputs,
                                    const Shape& output) = nullptr;

    bool has_weight() const { return !roles.empty() && roles[0] == ParameterRole::weight; }
};
const OperatorDescription& describe(const Operator& op);

}  // namespace jevrin::inline v1
