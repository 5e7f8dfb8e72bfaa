// Elementary functions written without branches, so that loops over them become vector instructions. Errors
// are relative unless stated and hold for float32 arguments.
#pragma once

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstdint>

namespace jevrin::inline v1 {

// e^x within 2e-7; 0 below -87.3 and about 3e38 above 88.7.
inline float fast_exp(float x) {
    constexpr float log2_e = 1.44269504F;
    constexpr float ln2_high = 0.693145752F;  // ln 2 in two parts, the first exact in few bits
    constexpr float ln2_low = 1.42860677e-6F;
    constexpr float rounder = 12582912.0F;  // 1.5 * 2^23: adding it leaves the nearest integer below
    const float clamped = std::max(std::min(x, 88.7F), -87.3F);
    const float shifted = clamped * log2_e + rounder;
    const float whole = shifted - rounder;
    const float r = (clamped - whole * ln2_high) - whole * ln2_low;  // within +-ln(2)/2
    // The Taylor series; the next term is below 6e-9.
    float sum = 1.0F / 5040.0F;
    sum = sum * r + 1.0F / 720.0F;
    sum = sum * r + 1.0F / 120.0F;
    sum = sum * r + 1.0F / 24.0F;
    sum = sum * r + 1.0F / 6.0F;
    sum = sum * r + 0.5F;
    sum = sum * r + 1.0F;
    sum = sum * r + 1.0F;
    const std::uint32_t exponent = (std::bit_cast<std::uint32_t>(shifted) << 23U) + 0x3F800000U;
    return x < -87.3F ? 0.0F : sum * std::bit_cast<float>(exponent);
}

inline float fast_sigmoid(float x) {
    return 1.0F / (1.0F + fast_exp(-x));
}

// Within 5e-7.
inline float fast_tanh(float x) {
    const float s = x * x;
    // The Taylor series near zero, where the quotient loses digits.
    const float near =
        x * (1.0F + s * (-1.0F / 3.0F + s * (2.0F / 15.0F + s * (-17.0F / 315.0F + s * (62.0F / 2835.0F)))));
    const float far = 1.0F - 2.0F / (fast_exp(2.0F * x) + 1.0F);
    return std::abs(x) < 0.25F ? near : far;
}

// erf x within 3e-7 absolute, from e^(-x^2): Abramowitz & Stegun 1964, formula 7.1.26, and the Taylor series
// near zero.
inline float fast_erf(float x, float exp_of_minus_square) {
    const float a = std::abs(x);
    const float s = x * x;
    const float t = 1.0F / (1.0F + 0.3275911F * a);
    const float poly =
        t *
        (0.254829592F + t * (-0.284496736F + t * (1.421413741F + t * (-1.453152027F + t * 1.061405429F))));
    const float far = std::copysign(1.0F - poly * exp_of_minus_square, x);
    const float series =
        1.0F + s * (-1.0F / 3.0F +
                    s * (1.0F / 10.0F + s * (-1.0F / 42.0F + s * (1.0F / 216.0F + s * (-1.0F / 1320.0F)))));
    constexpr float two_over_root_pi = 1.12837917F;
    return a < 0.5F ? two_over_root_pi * x * series : far;
}

inline float fast_erf(float x) {
    return fast_erf(x, fast_exp(-(x * x)));
}

}  // namespace jevrin::inline v1
