#include "jevrin/graph/operator_description.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/graph/operator_table.hpp"

#include <fmt/format.h>

#include <stdexcept>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

using Role = ParameterRole;
using Shapes = std::vector<Shape>;

// One for each operator: one without does not compile.
template <typename Op>
OperatorDescription description_of();

template <>
OperatorDescription description_of<Input>() {
    return {"input"};
}
template <>
OperatorDescription description_of<Constant>() {
    return {"constant", {Role::value}};
}
template <>
OperatorDescription description_of<Convolution>() {
    return {"convolution",
            {Role::weight, Role::bias},
            true,
            [](std::span<const Tensor> parameters, const Shapes&, const Shape& output) {
                return output[0] * output[1] * parameters[0].size();
            }};
}
template <>
OperatorDescription description_of<SeparableConvolution>() {
    return {"separable convolution",
            {Role::weight, Role::bias, Role::weight, Role::bias, Role::weight, Role::bias},
            true,
            [](std::span<const Tensor> parameters, const Shapes& inputs, const Shape& output) {
                const Shape& input = inputs[0];
                const bool expands = parameters[0].shape()[2] == input[2];
                std::int64_t count = expands ? input[0] * input[1] * parameters[0].size() : 0;
                for (std::size_t p = expands ? 2 : 0; p < parameters.size(); p += 2)
                    count += output[0] * output[1] * parameters[p].size();
                return count;
            }};
}
template <>
OperatorDescription description_of<BatchNormalisation>() {
    return {"batch normalisation", {Role::scale, Role::shift, Role::mean, Role::variance}};
}
template <>
OperatorDescription description_of<LayerNormalisation>() {
    return {"layer normalisation", {Role::scale, Role::shift}};
}
template <>
OperatorDescription description_of<GroupNormalisation>() {
    return {"group normalisation", {Role::scale, Role::shift}};
}
template <>
OperatorDescription description_of<Activation>() {
    return {"activation"};
}
template <>
OperatorDescription description_of<ParametricRelu>() {
    return {"parametric relu", {Role::slope}};
}
template <>
OperatorDescription description_of<MaxPooling>() {
    return {"max pooling", {}, true};
}
template <>
OperatorDescription description_of<AveragePooling>() {
    return {"average pooling", {}, true};
}
template <>
OperatorDescription description_of<GlobalAveragePooling>() {
    return {"global average pooling", {}, true};
}
template <>
OperatorDescription description_of<Reduction>() {
    return {"reduction", {}, true};
}
template <>
OperatorDescription description_of<Softmax>() {
    return {"softmax"};
}
template <>
OperatorDescription description_of<Arithmetic>() {
    return {"arithmetic", {}, true};
}
template <>
OperatorDescription description_of<MatrixProduct>() {
    return {
        "matrix product", {}, true, [](std::span<const Tensor>, const Shapes& inputs, const Shape& output) {
            return element_count(output) * inputs[0].back();
        }};
}
template <>
OperatorDescription description_of<Dense>() {
    return {"dense",
            {Role::weight, Role::bias},
            true,
            [](std::span<const Tensor> parameters, const Shapes&, const Shape& output) {
                return element_count(output) / output.back() * parameters[0].size();
            }};
}
template <>
OperatorDescription description_of<Concatenate>() {
    return {"concatenate", {}, true};
}
template <>
OperatorDescription description_of<Slice>() {
    return {"slice"};
}
template <>
OperatorDescription description_of<Padding>() {
    return {"padding"};
}
template <>
OperatorDescription description_of<Transpose>() {
    return {"transpose"};
}
template <>
OperatorDescription description_of<Reshape>() {
    return {"reshape"};
}
template <>
OperatorDescription description_of<Flatten>() {
    return {"flatten"};
}
template <>
OperatorDescription description_of<Gather>() {
    return {"gather"};
}
template <>
OperatorDescription description_of<Dropout>() {
    return {"dropout"};
}

}  // namespace

std::string_view role_name(ParameterRole role) {
    switch (role) {
        case Role::weight:
            return "weight";
        case Role::bias:
            return "bias";
        case Role::scale:
            return "scale";
        case Role::shift:
            return "shift";
        case Role::mean:
            return "mean";
        case Role::variance:
            return "variance";
        case Role::slope:
            return "slope";
        case Role::value:
            return "value";
    }
    unhandled(role);
}

const OperatorDescription& describe(const Operator& op) {
    return std::visit(
        []<typename Op>(const Op&) -> const OperatorDescription& {
            static const OperatorDescription description = description_of<Op>();
            return description;
        },
        op);
}

void throw_missing(const char* what, const Operator& op) {
    throw std::logic_error(fmt::format("there is no {} for the operator '{}'", what, describe(op).name));
}

}  // namespace jevrin::inline v1
