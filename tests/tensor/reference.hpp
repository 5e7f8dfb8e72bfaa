// Plain loops in double: what the kernels are held against.
#pragma once

#include "jevrin/tensor/convolution.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

namespace jevrin::test {

using Doubles = std::vector<double>;

inline Doubles widen(std::span<const float> values) {
    return {values.begin(), values.end()};
}

inline Doubles reference_convolution(const ConvolutionShape& s, std::int64_t batch, const Doubles& input,
                                     const Doubles& weight, const Doubles& bias) {
    Doubles output(static_cast<std::size_t>(batch * s.out_height() * s.out_width() * s.out_channels), 0.0);
    std::size_t place = 0;
    for (std::int64_t n = 0; n < batch; ++n)
        for (std::int64_t oy = 0; oy < s.out_height(); ++oy)
            for (std::int64_t ox = 0; ox < s.out_width(); ++ox)
                for (std::int64_t o = 0; o < s.out_channels; ++o, ++place) {
                    double sum = bias.empty() ? 0.0 : bias[static_cast<std::size_t>(o)];
                    for (std::int64_t ky = 0; ky < s.kernel_height; ++ky)
                        for (std::int64_t kx = 0; kx < s.kernel_width; ++kx) {
                            const std::int64_t y = oy * s.stride_height - s.pad_top + ky;
                            const std::int64_t x = ox * s.stride_width - s.pad_left + kx;
                            if (y < 0 || y >= s.height || x < 0 || x >= s.width) continue;
                            for (std::int64_t i = 0; i < s.in_channels; ++i)
                                sum += input[static_cast<std::size_t>(
                                           ((n * s.height + y) * s.width + x) * s.in_channels + i)] *
                                       weight[static_cast<std::size_t>(
                                           ((ky * s.kernel_width + kx) * s.in_channels + i) * s.out_channels +
                                           o)];
                        }
                    output[place] = sum;
                }
    return output;
}

// The gradients of sum(output * output_gradient) by the definition of the convolution.
struct ReferenceGradients {
    Doubles input;
    Doubles weight;
};
inline ReferenceGradients reference_convolution_gradients(const ConvolutionShape& s, std::int64_t batch,
                                                          const Doubles& input, const Doubles& weight,
                                                          const Doubles& output_gradient) {
    ReferenceGradients g{Doubles(input.size(), 0.0), Doubles(weight.size(), 0.0)};
    std::size_t place = 0;
    for (std::int64_t n = 0; n < batch; ++n)
        for (std::int64_t oy = 0; oy < s.out_height(); ++oy)
            for (std::int64_t ox = 0; ox < s.out_width(); ++ox)
                for (std::int64_t o = 0; o < s.out_channels; ++o, ++place)
                    for (std::int64_t ky = 0; ky < s.kernel_height; ++ky)
                        for (std::int64_t kx = 0; kx < s.kernel_width; ++kx) {
                            const std::int64_t y = oy * s.stride_height - s.pad_top + ky;
                            const std::int64_t x = ox * s.stride_width - s.pad_left + kx;
                            if (y < 0 || y >= s.height || x < 0 || x >= s.width) continue;
                            for (std::int64_t i = 0; i < s.in_channels; ++i) {
                                const auto a = static_cast<std::size_t>(
                                    ((n * s.height + y) * s.width + x) * s.in_channels + i);
                                const auto w = static_cast<std::size_t>(
                                    ((ky * s.kernel_width + kx) * s.in_channels + i) * s.out_channels + o);
                                g.input[a] += weight[w] * output_gradient[place];
                                g.weight[w] += input[a] * output_gradient[place];
                            }
                        }
    return g;
}

// The largest |a - b| relative to the largest |b| (at least 1e-3): float32 sums of n terms stay within n *
// 6e-8 of it.
inline double worst_difference(std::span<const float> a, const Doubles& b) {
    double scale = 1e-3;
    double worst = 0.0;
    for (const double v : b) scale = std::max(scale, std::abs(v));
    for (std::size_t i = 0; i < b.size(); ++i) worst = std::max(worst, std::abs(a[i] - b[i]));
    return worst / scale;
}

}  // namespace jevrin::test
