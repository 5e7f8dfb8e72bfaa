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

// Calls visit(input place, weight place, output place) for every multiplication of a convolution.
template <typename Visit>
void for_products(const ConvolutionShape& s, std::int64_t batch, Visit visit) {
    const std::int64_t group_in = s.in_channels / s.groups;
    std::size_t place = 0;
    for (std::int64_t n = 0; n < batch; ++n)
        for (std::int64_t oy = 0; oy < s.out_height(); ++oy)
            for (std::int64_t ox = 0; ox < s.out_width(); ++ox)
                for (std::int64_t o = 0; o < s.out_channels; ++o, ++place) {
                    const std::int64_t first = o / (s.out_channels / s.groups) * group_in;
                    for (std::int64_t ky = 0; ky < s.kernel_height; ++ky)
                        for (std::int64_t kx = 0; kx < s.kernel_width; ++kx) {
                            const std::int64_t y = oy * s.stride_height - s.pad_top + ky * s.dilation_height;
                            const std::int64_t x = ox * s.stride_width - s.pad_left + kx * s.dilation_width;
                            if (y < 0 || y >= s.height || x < 0 || x >= s.width) continue;
                            for (std::int64_t i = 0; i < group_in; ++i)
                                visit(static_cast<std::size_t>(
                                          ((n * s.height + y) * s.width + x) * s.in_channels + first + i),
                                      static_cast<std::size_t>(
                                          ((ky * s.kernel_width + kx) * group_in + i) * s.out_channels + o),
                                      place);
                        }
                }
}

inline Doubles reference_convolution(const ConvolutionShape& s, std::int64_t batch, const Doubles& input,
                                     const Doubles& weight, const Doubles& bias) {
    Doubles output(static_cast<std::size_t>(batch * s.out_height() * s.out_width() * s.out_channels), 0.0);
    if (!bias.empty())
        for (std::size_t i = 0; i < output.size(); ++i) output[i] = bias[i % bias.size()];
    for_products(s, batch,
                 [&](std::size_t x, std::size_t w, std::size_t y) { output[y] += input[x] * weight[w]; });
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
    for_products(s, batch, [&](std::size_t x, std::size_t w, std::size_t y) {
        g.input[x] += weight[w] * output_gradient[y];
        g.weight[w] += input[x] * output_gradient[y];
    });
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
