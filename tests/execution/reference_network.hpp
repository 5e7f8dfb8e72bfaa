// A network in double by plain loops, forward in training mode: what gradients are checked against. Every
// operator is written from its definition, one output element at a time.
#pragma once

#include "tensor/reference.hpp"

#include "jevrin/graph/graph.hpp"
#include "jevrin/graph/kernel_shapes.hpp"

#include <cmath>
#include <functional>

namespace jevrin::test {

// All parameters of a network in double, node by node.
using DoubleParameters = std::vector<std::vector<Doubles>>;

inline DoubleParameters widen_parameters(const Network& network) {
    DoubleParameters all;
    for (const Node& node : network.nodes) {
        all.emplace_back();
        for (const Tensor& p : node.parameters) all.back().push_back(widen(p.values()));
    }
    return all;
}

// The place of an index in memory, and the index of a place.
inline std::size_t place_of(const Shape& shape, const Shape& index) {
    std::int64_t place = 0;
    for (std::size_t d = 0; d < shape.size(); ++d) place = place * shape[d] + index[d];
    return static_cast<std::size_t>(place);
}
inline Shape index_of(const Shape& shape, std::int64_t place) {
    Shape index(shape.size());
    for (std::size_t d = shape.size(); d-- > 0; place /= shape[d]) index[d] = place % shape[d];
    return index;
}

inline double reference_function(const Function& f, double x) {
    const auto alpha = static_cast<double>(f.alpha);
    const auto beta = static_cast<double>(f.beta);
    switch (f.kind) {
        case FunctionKind::identity:
            return x;
        case FunctionKind::relu:
            return std::max(x, 0.0);
        case FunctionKind::clip:
            return std::clamp(x, alpha, beta);
        case FunctionKind::leaky_relu:
            return x >= 0 ? x : alpha * x;
        case FunctionKind::sigmoid:
            return 1 / (1 + std::exp(-x));
        case FunctionKind::hard_sigmoid:
            return std::clamp(alpha * x + beta, 0.0, 1.0);
        case FunctionKind::hard_swish:
            return x * std::clamp(x / 6 + 0.5, 0.0, 1.0);
        case FunctionKind::silu:
            return x / (1 + std::exp(-x));
        case FunctionKind::tanh:
            return std::tanh(x);
        case FunctionKind::erf:
            return std::erf(x);
        case FunctionKind::gelu:
            return x * (1 + std::erf(x / std::sqrt(2.0))) / 2;
        case FunctionKind::square_root:
            return std::sqrt(x);
        case FunctionKind::exponential:
            return std::exp(x);
        case FunctionKind::logarithm:
            return std::log(x);
        case FunctionKind::absolute:
            return std::abs(x);
        case FunctionKind::elu:
            return beta * (x >= 0 ? x : alpha * std::expm1(x));
        case FunctionKind::softplus:
            return std::log1p(std::exp(x));
        case FunctionKind::softsign:
            return x / (1 + std::abs(x));
        case FunctionKind::thresholded_relu:
            return x > alpha ? x : 0;
        case FunctionKind::round:
            return std::nearbyint(x);
    }
    return 0;
}

inline double reference_arithmetic(ArithmeticKind kind, double a, double b) {
    switch (kind) {
        case ArithmeticKind::add:
            return a + b;
        case ArithmeticKind::subtract:
            return a - b;
        case ArithmeticKind::multiply:
            return a * b;
        case ArithmeticKind::divide:
            return a / b;
        case ArithmeticKind::power:
            return std::pow(a, b);
        case ArithmeticKind::maximum:
            return std::max(a, b);
        case ArithmeticKind::minimum:
            return std::min(a, b);
    }
    return 0;
}

inline Doubles reference_pooling(const operators::Window& w, const Shape& in, const Shape& out,
                                 std::int64_t batch, const Doubles& x, bool largest, bool count_padding) {
    Doubles y;
    for (std::int64_t n = 0; n < batch; ++n)
        for (std::int64_t oy = 0; oy < out[0]; ++oy)
            for (std::int64_t ox = 0; ox < out[1]; ++ox)
                for (std::int64_t c = 0; c < in[2]; ++c) {
                    double best = -1e300;
                    double sum = 0;
                    std::int64_t counted = 0;
                    for (std::int64_t ky = 0; ky < w.kernel_height; ++ky)
                        for (std::int64_t kx = 0; kx < w.kernel_width; ++kx) {
                            const std::int64_t iy = oy * w.stride_height - w.pad_top + ky;
                            const std::int64_t ix = ox * w.stride_width - w.pad_left + kx;
                            const bool padded = iy < in[0] + w.pad_bottom && ix < in[1] + w.pad_right;
                            const bool inside = iy >= 0 && iy < in[0] && ix >= 0 && ix < in[1];
                            if (count_padding ? padded : inside) ++counted;
                            if (!inside) continue;
                            const double v =
                                x[static_cast<std::size_t>(((n * in[0] + iy) * in[1] + ix) * in[2] + c)];
                            best = std::max(best, v);
                            sum += v;
                        }
                    y.push_back(largest ? best : sum / static_cast<double>(counted));
                }
    return y;
}

// (x - mean) / sqrt(variance + epsilon) over the places that belong together, as member() says of each.
inline Doubles normalised(const Doubles& x, std::size_t sets, double epsilon,
                          const std::function<std::size_t(std::size_t)>& member) {
    Doubles count(sets, 0);
    Doubles mean(sets, 0);
    Doubles variance(sets, 0);
    for (std::size_t i = 0; i < x.size(); ++i) count[member(i)] += 1;
    for (std::size_t i = 0; i < x.size(); ++i) mean[member(i)] += x[i] / count[member(i)];
    for (std::size_t i = 0; i < x.size(); ++i)
        variance[member(i)] += (x[i] - mean[member(i)]) * (x[i] - mean[member(i)]) / count[member(i)];
    Doubles y(x.size());
    for (std::size_t i = 0; i < x.size(); ++i)
        y[i] = (x[i] - mean[member(i)]) / std::sqrt(variance[member(i)] + epsilon);
    return y;
}

// One operator on a batch; dropout and what only inference has are not supported, batch normalisation uses
// the statistics of the batch unless it is fixed.
class ReferenceOperator {
  public:
    ReferenceOperator(const Node& node, const std::vector<Doubles>& parameters, std::int64_t batch,
                      const std::vector<Shape>& shapes, const std::vector<Doubles>& values, const Shape& out)
        : node_(node), p_(parameters), batch_(batch), out_(out) {
        for (const std::size_t input : node.inputs) {
            in_.push_back(shapes[input]);
            x_.push_back(&values[input]);
        }
    }

    Doubles operator()(const operators::Input&) const { return {}; }
    Doubles operator()(const operators::Dropout&) const { return {}; }
    Doubles operator()(const operators::SeparableConvolution&) const { return {}; }
    Doubles operator()(const operators::Constant&) const {
        return each([&](std::int64_t, const Shape& index) { return p_[0][place_of(out_, index)]; });
    }
    Doubles operator()(const operators::Convolution&) const {
        const ConvolutionShape s = convolution_shape(node_, in_[0]);
        return reference_convolution(s, batch_, *x_[0], p_[0], p_.size() > 1 ? p_[1] : Doubles{});
    }
    Doubles operator()(const operators::BatchNormalisation& op) const {
        const auto channels = static_cast<std::size_t>(out_.back());
        const auto channel = [=](std::size_t i) { return i % channels; };
        Doubles y = normalised(*x_[0], channels, static_cast<double>(op.epsilon), channel);
        for (std::size_t i = 0; i < y.size(); ++i) {
            const std::size_t c = channel(i);
            if (op.fixed)
                y[i] = ((*x_[0])[i] - p_[2][c]) / std::sqrt(p_[3][c] + static_cast<double>(op.epsilon));
            y[i] = y[i] * p_[0][c] + p_[1][c];
        }
        return y;
    }
    Doubles operator()(const operators::LayerNormalisation& op) const {
        const std::size_t width = p_[0].size();
        Doubles y = normalised(*x_[0], x_[0]->size() / width, static_cast<double>(op.epsilon),
                               [=](std::size_t i) { return i / width; });
        for (std::size_t i = 0; i < y.size(); ++i) y[i] = y[i] * p_[0][i % width] + p_[1][i % width];
        return y;
    }
    Doubles operator()(const operators::GroupNormalisation& op) const {
        const auto channels = static_cast<std::size_t>(out_.back());
        const auto groups = static_cast<std::size_t>(op.groups);
        const auto item = static_cast<std::size_t>(element_count(out_));
        Doubles y =
            normalised(*x_[0], static_cast<std::size_t>(batch_) * groups, static_cast<double>(op.epsilon),
                       [=](std::size_t i) { return i / item * groups + i % channels / (channels / groups); });
        for (std::size_t i = 0; i < y.size(); ++i) y[i] = y[i] * p_[0][i % channels] + p_[1][i % channels];
        return y;
    }
    Doubles operator()(const operators::Activation& op) const {
        return each(
            [&](std::int64_t n, const Shape& i) { return reference_function(op.function, x(0, n, i)); });
    }
    Doubles operator()(const operators::ParametricRelu&) const {
        return each([&](std::int64_t n, const Shape& i) {
            const double slope = p_[0].size() == 1 ? p_[0][0] : p_[0][static_cast<std::size_t>(i.back())];
            return x(0, n, i) >= 0 ? x(0, n, i) : slope * x(0, n, i);
        });
    }
    Doubles operator()(const operators::MaxPooling& op) const {
        return reference_pooling(op.window, in_[0], out_, batch_, *x_[0], true, false);
    }
    Doubles operator()(const operators::AveragePooling& op) const {
        return reference_pooling(op.window, in_[0], out_, batch_, *x_[0], false, op.count_padding);
    }
    Doubles operator()(const operators::GlobalAveragePooling&) const {
        return reference_pooling({in_[0][0], in_[0][1]}, in_[0], out_, batch_, *x_[0], false, false);
    }
    Doubles operator()(const operators::Reduction& op) const {
        const std::int64_t item = element_count(in_[0]);
        Doubles y(static_cast<std::size_t>(batch_ * element_count(out_)),
                  op.kind == ReductionKind::maximum ? -1e300 : 0.0);
        const double share = op.kind == ReductionKind::mean
                                 ? static_cast<double>(element_count(out_)) / static_cast<double>(item)
                                 : 1.0;
        for (std::int64_t n = 0; n < batch_; ++n)
            for (std::int64_t i = 0; i < item; ++i) {
                const Shape index = index_of(in_[0], i);
                std::int64_t place = 0;
                for (std::size_t d = 0; d < index.size(); ++d)
                    if (std::find(op.axes.begin(), op.axes.end(), static_cast<std::int64_t>(d)) ==
                        op.axes.end())
                        place = place * in_[0][d] + index[d];
                double& target = y[static_cast<std::size_t>(n * element_count(out_) + place)];
                const double value = x(0, n, index);
                target = op.kind == ReductionKind::maximum ? std::max(target, value) : target + value * share;
            }
        return y;
    }
    Doubles operator()(const operators::Softmax& op) const {
        const auto axis = static_cast<std::size_t>(op.axis);
        return each([&](std::int64_t n, const Shape& index) {
            double sum = 0;
            Shape other = index;
            for (other[axis] = 0; other[axis] < out_[axis]; ++other[axis]) sum += std::exp(x(0, n, other));
            const double share = std::exp(x(0, n, index)) / sum;
            return op.logarithm ? std::log(share) : share;
        });
    }
    Doubles operator()(const operators::Arithmetic& op) const {
        return each([&](std::int64_t n, const Shape& index) {
            return reference_arithmetic(op.kind, repeated(0, n, index), repeated(1, n, index));
        });
    }
    Doubles operator()(const operators::MatrixProduct&) const {
        return each([&](std::int64_t n, const Shape& index) {
            Shape a = index;
            Shape b = index;
            double sum = 0;
            for (std::int64_t k = 0; k < in_[0].back(); ++k) {
                a.back() = k;
                b[b.size() - 2] = k;
                sum += x(0, n, a) * x(1, n, b);
            }
            return sum;
        });
    }
    Doubles operator()(const operators::Dense&) const {
        return each([&](std::int64_t n, const Shape& index) {
            double sum = p_.size() > 1 ? p_[1][static_cast<std::size_t>(index.back())] : 0.0;
            Shape from = index;
            for (from.back() = 0; from.back() < in_[0].back(); ++from.back())
                sum +=
                    x(0, n, from) * p_[0][static_cast<std::size_t>(from.back() * out_.back() + index.back())];
            return sum;
        });
    }
    Doubles operator()(const operators::Concatenate& op) const {
        const auto axis = static_cast<std::size_t>(op.axis);
        return each([&](std::int64_t n, Shape index) {
            std::size_t input = 0;
            for (; index[axis] >= in_[input][axis]; ++input) index[axis] -= in_[input][axis];
            return x(input, n, index);
        });
    }
    Doubles operator()(const operators::Slice& op) const {
        return each([&](std::int64_t n, Shape index) {
            for (std::size_t d = 0; d < index.size(); ++d)
                index[d] = op.stretches[d].start + index[d] * op.stretches[d].step;
            return x(0, n, index);
        });
    }
    Doubles operator()(const operators::Padding& op) const {
        return each([&](std::int64_t n, Shape index) {
            bool outside = false;
            for (std::size_t d = 0; d < index.size(); ++d) {
                std::int64_t at = index[d] - op.before[d];
                const std::int64_t last = in_[0][d] - 1;
                outside = outside || at < 0 || at > last;
                if (op.kind == PaddingKind::reflect) at = at < 0 ? -at : at > last ? 2 * last - at : at;
                index[d] = std::clamp<std::int64_t>(at, 0, last);
            }
            return outside && op.kind == PaddingKind::constant ? static_cast<double>(op.value)
                                                               : x(0, n, index);
        });
    }
    Doubles operator()(const operators::Transpose& op) const {
        return each([&](std::int64_t n, const Shape& index) {
            Shape from(index.size());
            for (std::size_t d = 0; d < index.size(); ++d)
                from[static_cast<std::size_t>(op.permutation[d])] = index[d];
            return x(0, n, from);
        });
    }
    Doubles operator()(const operators::Reshape&) const { return *x_[0]; }
    Doubles operator()(const operators::Flatten&) const {
        if (in_[0].size() != 3) return *x_[0];
        return each([&](std::int64_t n, const Shape& index) {
            const Shape first = index_of({in_[0][2], in_[0][0], in_[0][1]}, index[0]);
            return x(0, n, {first[1], first[2], first[0]});
        });
    }
    Doubles operator()(const operators::Gather& op) const {
        return each([&](std::int64_t n, Shape index) {
            std::int64_t& at = index[static_cast<std::size_t>(op.axis)];
            at = op.places[static_cast<std::size_t>(at)];
            return x(0, n, index);
        });
    }

  private:
    // The output from its value at each item and index.
    Doubles each(const std::function<double(std::int64_t, const Shape&)>& value) const {
        Doubles y;
        for (std::int64_t n = 0; n < batch_; ++n)
            for (std::int64_t i = 0; i < element_count(out_); ++i) y.push_back(value(n, index_of(out_, i)));
        return y;
    }
    double x(std::size_t input, std::int64_t n, const Shape& index) const {
        const auto item = static_cast<std::size_t>(n * element_count(in_[input]));
        return (*x_[input])[item + place_of(in_[input], index)];
    }
    // With broadcasting.
    double repeated(std::size_t input, std::int64_t n, const Shape& index) const {
        const Shape& shape = in_[input];
        Shape at(index.end() - std::ssize(shape), index.end());
        for (std::size_t d = 0; d < at.size(); ++d) at[d] = shape[d] == 1 ? 0 : at[d];
        return x(input, n, at);
    }

    const Node& node_;
    const std::vector<Doubles>& p_;
    std::int64_t batch_;
    Shape out_;
    std::vector<Shape> in_;
    std::vector<const Doubles*> x_;
};

inline Doubles reference_forward(const Network& network, const DoubleParameters& parameters,
                                 std::int64_t batch, const Doubles& input) {
    const std::vector<Shape> shapes = infer_shapes(network);
    std::vector<Doubles> values(network.nodes.size());
    values[0] = input;
    for (std::size_t i = 1; i < network.nodes.size(); ++i)
        values[i] =
            std::visit(ReferenceOperator(network.nodes[i], parameters[i], batch, shapes, values, shapes[i]),
                       network.nodes[i].op);
    return values.back();
}

}  // namespace jevrin::test
