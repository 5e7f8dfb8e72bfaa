// The kinds of kernels of one family, and their parameters.
#pragma once

#include "jevrin/base/enumeration.hpp"

#include <cstdint>

namespace jevrin::inline v1 {

// Of two values.
enum class ArithmeticKind { add, subtract, multiply, divide, power, maximum, minimum };

// Of one value.
enum class FunctionKind {
    identity,
    relu,          // max(x, 0)
    clip,          // x held within [alpha, beta]
    leaky_relu,    // x, or alpha * x below zero
    sigmoid,       // 1 / (1 + e^-x)
    hard_sigmoid,  // alpha * x + beta held within [0, 1]
    hard_swish,    // x * (x / 6 + 1 / 2 held within [0, 1]): Howard 2019
    silu,          // x * sigmoid(x): Elfwing 2018
    tanh,
    erf,
    gelu,  // x * (1 + erf(x / sqrt 2)) / 2: Hendrycks & Gimpel 2016
    square_root,
    exponential,
    logarithm,
    absolute,
    elu,       // beta * x, or beta * alpha * (e^x - 1) below zero: Clevert 2016; scaled: Klambauer 2017
    softplus,  // ln(1 + e^x)
    softsign,  // x / (1 + |x|)
    thresholded_relu,  // x above alpha, otherwise 0: Konda 2015
    round,             // to the nearest integer, halves to the even one; its slope is 0
};

struct Function {
    FunctionKind kind = FunctionKind::identity;
    float alpha = 0.0F;
    float beta = 0.0F;

    bool operator==(const Function&) const = default;
};

// "relu", "hard swish", ...
const EnumNames<FunctionKind>& names_of(FunctionKind);

// How values beyond the edge are made: constant ones, the nearest element, or a mirror image without the edge
// itself.
enum class PaddingKind { constant, edge, reflect };

// The places start, start + step, ... of a dimension, count of them; the step may be negative.
struct Stretch {
    std::int64_t start = 0;
    std::int64_t step = 1;
    std::int64_t count = 0;
};

// How a kernel is given the weight of its forward pass: as parameters are kept, or as its lay_out() wrote it
// once, which saves laying it out in every call.
enum class WeightForm { plain, laid_out };

enum class ReductionKind { mean, sum, maximum };

}  // namespace jevrin::inline v1
