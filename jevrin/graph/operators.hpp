// The operators a network is made of. Shapes are those of one item, [height, width, channels] for images;
// axes count the dimensions of one item from 0.
#pragma once

#include "jevrin/tensor/kinds.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <cstdint>
#include <variant>
#include <vector>

namespace jevrin::inline v1 {

namespace operators {

struct Window {
    std::int64_t kernel_height = 1;
    std::int64_t kernel_width = 1;
    std::int64_t stride_height = 1;
    std::int64_t stride_width = 1;
    std::int64_t pad_top = 0;
    std::int64_t pad_left = 0;
    std::int64_t pad_bottom = 0;
    std::int64_t pad_right = 0;
    std::int64_t dilation_height = 1;
    std::int64_t dilation_width = 1;
    bool round_up = false;  // pooling only: a last window may reach beyond the padded image
};

struct Input {};
// Parameters: a value of any shape, which is the output for every item.
struct Constant {
    bool trained = true;
    bool stored = false;  // not trained, and yet made of weights that a model file stores
};
// Parameters: weight [kernel_height, kernel_width, in / groups, out], then optionally bias [out].
struct Convolution {
    Window window;
    std::int64_t groups = 1;
    Function activation;   // set only by the rewriting pipeline
    bool winograd = true;  // in transformed tiles where they serve; other rounding
};
// A depthwise convolution with 1x1 convolutions around it; set only by the rewriting pipeline. Parameters:
// weight and bias of each of them that is there. A second input is added to the result.
struct SeparableConvolution {
    bool expands = false;   // there is one before it
    bool projects = false;  // behind it
    Window window;
    Function activations[3];  // of the expansion, the depthwise convolution and the projection
};
// Over the last dimension. Parameters: scale, shift, mean, variance, each [channels]; the last two are
// statistics, not trained.
struct BatchNormalisation {
    float epsilon = 1e-5F;
    float momentum = 0.1F;  // fraction of the newest batch in the running statistics
    bool fixed = false;     // training uses the stored statistics and leaves them alone
};
// Over the trailing dimensions that the parameters have. Parameters: scale, shift.
struct LayerNormalisation {
    float epsilon = 1e-5F;
};
// [..., channels] in groups of channels. Parameters: scale, shift, each [channels].
struct GroupNormalisation {
    std::int64_t groups = 1;
    float epsilon = 1e-5F;
};
struct Activation {
    Function function;
};
// Parameters: slope, one number or [channels].
struct ParametricRelu {};
struct MaxPooling {
    Window window;
};
struct AveragePooling {
    Window window;
    bool count_padding = false;
};
// [height, width, channels] to [1, 1, channels].
struct GlobalAveragePooling {};
struct Reduction {
    ReductionKind kind = ReductionKind::mean;
    std::vector<std::int64_t> axes;
    bool keep_dimensions = false;
};
struct Softmax {
    std::int64_t axis = 0;
    bool logarithm = false;
};
// Two inputs, with broadcasting.
struct Arithmetic {
    ArithmeticKind kind = ArithmeticKind::add;
    bool rectified = false;  // max(result, 0); set only by the rewriting pipeline
};
// [..., rows, depth] times [..., depth, columns], the leading dimensions alike.
struct MatrixProduct {};
// [..., in] to [..., out]. Parameters: weight [in, out], then optionally bias [out].
struct Dense {
    Function activation;  // set only by the rewriting pipeline
};
struct Concatenate {
    std::int64_t axis = 0;
};
struct Slice {
    std::vector<Stretch> stretches;  // one for each dimension
};
struct Padding {
    std::vector<std::int64_t> before;  // for each dimension
    std::vector<std::int64_t> after;
    PaddingKind kind = PaddingKind::constant;
    float value = 0.0F;
};
// Output dimension d is input dimension permutation[d].
struct Transpose {
    std::vector<std::int64_t> permutation;
};
struct Reshape {
    Shape shape;
};
// [height, width, channels] to [channels * height * width], in channels-first order as model files have it.
struct Flatten {};
struct Gather {
    std::int64_t axis = 0;
    std::vector<std::int64_t> places;
};
struct Dropout {
    double rate = 0.5;
};

}  // namespace operators

using Operator = std::variant<
    operators::Input, operators::Constant, operators::Convolution, operators::SeparableConvolution,
    operators::BatchNormalisation, operators::LayerNormalisation, operators::GroupNormalisation,
    operators::Activation, operators::ParametricRelu, operators::MaxPooling, operators::AveragePooling,
    operators::GlobalAveragePooling, operators::Reduction, operators::Softmax, operators::Arithmetic,
    operators::MatrixProduct, operators::Dense, operators::Concatenate, operators::Slice, operators::Padding,
    operators::Transpose, operators::Reshape, operators::Flatten, operators::Gather, operators::Dropout>;

// The two most common ones.
inline Operator relu() {
    return operators::Activation{{FunctionKind::relu}};
}
inline Operator sum_of_two() {
    return operators::Arithmetic{ArithmeticKind::add};
}

// Whether an operator is an activation of this kind.
inline bool is_activation(const Operator& op, FunctionKind kind) {
    const auto* activation = std::get_if<operators::Activation>(&op);
    return activation != nullptr && activation->function.kind == kind;
}

}  // namespace jevrin::inline v1
