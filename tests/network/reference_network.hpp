// A network in double by plain loops, forward in training mode: what gradients are checked against.
#pragma once

#include "tensor/reference.hpp"

#include "jevrin/network/graph.hpp"

#include <cmath>

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

inline Doubles reference_pooling(const Window& w, const Shape& in, const Shape& out, std::int64_t batch,
                                 const Doubles& x, bool largest, bool count_padding) {
    Doubles y;
    for (std::int64_t n = 0; n < batch; ++n)
        for (std::int64_t oy = 0; oy < out[0]; ++oy)
            for (std::int64_t ox = 0; ox < out[1]; ++ox)
                for (std::int64_t c = 0; c < in[2]; ++c) {
                    double best = -1e300;
                    double sum = 0;
                    std::int64_t seen = 0;
                    for (std::int64_t ky = 0; ky < w.kernel_height; ++ky)
                        for (std::int64_t kx = 0; kx < w.kernel_width; ++kx) {
                            const std::int64_t iy = oy * w.stride_height - w.pad_top + ky;
                            const std::int64_t ix = ox * w.stride_width - w.pad_left + kx;
                            if (iy < 0 || iy >= in[0] || ix < 0 || ix >= in[1]) continue;
                            const double v =
                                x[static_cast<std::size_t>(((n * in[0] + iy) * in[1] + ix) * in[2] + c)];
                            best = std::max(best, v);
                            sum += v;
                            ++seen;
                        }
                    const std::int64_t divisor = count_padding ? w.kernel_height * w.kernel_width : seen;
                    y.push_back(largest ? best : sum / static_cast<double>(divisor));
                }
    return y;
}

// The output for a batch; dropout is not supported, normalisation uses the statistics of the batch.
inline Doubles reference_forward(const Network& network, const DoubleParameters& parameters,
                                 std::int64_t batch, const Doubles& input) {
    const std::vector<Shape> shapes = infer_shapes(network);
    std::vector<Doubles> values(network.nodes.size());
    values[0] = input;
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        const Node& node = network.nodes[i];
        const Doubles& x = values[node.inputs[0]];
        const Shape& in = shapes[node.inputs[0]];
        const auto& p = parameters[i];
        Doubles& y = values[i];
        if (const auto* op = std::get_if<Convolution>(&node.op)) {
            const Window& w = op->window;
            const ConvolutionShape s{in[0],           in[1],          in[2],           shapes[i][2],
                                     w.kernel_height, w.kernel_width, w.stride_height, w.stride_width,
                                     w.pad_top,       w.pad_left,     w.pad_bottom,    w.pad_right};
            y = reference_convolution(s, batch, x, p[0], p.size() > 1 ? p[1] : Doubles{});
        } else if (const auto* normalisation = std::get_if<BatchNormalisation>(&node.op)) {
            y = x;
            const auto channels = static_cast<std::size_t>(in.back());
            for (std::size_t c = 0; c < channels; ++c) {
                double mean = 0;
                double variance = 0;
                const double count = static_cast<double>(x.size() / channels);
                for (std::size_t k = c; k < x.size(); k += channels) mean += x[k] / count;
                for (std::size_t k = c; k < x.size(); k += channels)
                    variance += (x[k] - mean) * (x[k] - mean) / count;
                for (std::size_t k = c; k < x.size(); k += channels)
                    y[k] = p[0][c] * (x[k] - mean) /
                               std::sqrt(variance + static_cast<double>(normalisation->epsilon)) +
                           p[1][c];
            }
        } else if (std::holds_alternative<Relu>(node.op)) {
            y = x;
            for (double& v : y) v = std::max(v, 0.0);
        } else if (const auto* max = std::get_if<MaxPooling>(&node.op)) {
            y = reference_pooling(max->window, in, shapes[i], batch, x, true, false);
        } else if (const auto* average = std::get_if<AveragePooling>(&node.op)) {
            y = reference_pooling(average->window, in, shapes[i], batch, x, false, average->count_padding);
        } else if (std::holds_alternative<GlobalAveragePooling>(node.op)) {
            const Window whole{in[0], in[1]};
            y = reference_pooling(whole, in, shapes[i], batch, x, false, false);
        } else if (std::holds_alternative<Flatten>(node.op)) {
            y.resize(x.size());
            const std::int64_t channels = in.back();
            const std::int64_t pixels = element_count(in) / channels;
            for (std::int64_t n = 0; n < batch; ++n)
                for (std::int64_t k = 0; k < pixels; ++k)
                    for (std::int64_t c = 0; c < channels; ++c)
                        y[static_cast<std::size_t>((n * channels + c) * pixels + k)] =
                            x[static_cast<std::size_t>((n * pixels + k) * channels + c)];
        } else if (std::holds_alternative<Dense>(node.op)) {
            const std::int64_t out = shapes[i][0];
            for (std::int64_t n = 0; n < batch; ++n)
                for (std::int64_t o = 0; o < out; ++o) {
                    double sum = p.size() > 1 ? p[1][static_cast<std::size_t>(o)] : 0.0;
                    for (std::int64_t k = 0; k < in[0]; ++k)
                        sum += x[static_cast<std::size_t>(n * in[0] + k)] *
                               p[0][static_cast<std::size_t>(k * out + o)];
                    y.push_back(sum);
                }
        } else if (std::holds_alternative<Add>(node.op)) {
            y = x;
            for (std::size_t k = 0; k < y.size(); ++k) y[k] += values[node.inputs[1]][k];
        }
    }
    return values.back();
}

}  // namespace jevrin::test
