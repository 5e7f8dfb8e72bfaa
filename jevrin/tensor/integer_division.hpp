// Division of integers, rounded as the name says; b is positive.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

constexpr std::int64_t divide_down(std::int64_t a, std::int64_t b) {
    return a >= 0 ? a / b : -((-a + b - 1) / b);
}

constexpr std::int64_t divide_up(std::int64_t a, std::int64_t b) {
    return -divide_down(-a, b);
}

// The smallest multiple of b that is at least a.
constexpr std::int64_t round_up(std::int64_t a, std::int64_t b) {
    return divide_up(a, b) * b;
}

}  // namespace jevrin::inline v1
