#include "jevrin/tensor/bfloat16.hpp"

#include "jevrin/tensor/element_loop.hpp"

#include <bit>

namespace jevrin::inline v1 {
namespace {

std::uint16_t narrowed(float value) {
    const auto bits = std::bit_cast<std::uint32_t>(value);
    const std::uint32_t half = 0x7FFFU + ((bits >> 16U) & 1U);
    // A NaN could round to infinity or beyond: its upper half with the quiet bit is a NaN for certain.
    const bool is_nan = (bits & 0x7FFFFFFFU) > 0x7F800000U;
    const std::uint32_t rounded = is_nan ? bits | 0x00400000U : bits + half;
    return static_cast<std::uint16_t>(rounded >> 16U);
}

}  // namespace

void narrow_to_bfloat16(std::int64_t count, const float* values, std::uint16_t* narrow) {
    for_elements(count, [&](std::int64_t begin, std::int64_t end) {
        for (std::int64_t i = begin; i < end; ++i) narrow[i] = narrowed(values[i]);
    });
}

void widen_bfloat16(std::int64_t count, const std::uint16_t* narrow, float* values) {
    for_elements(count, [&](std::int64_t begin, std::int64_t end) {
        for (std::int64_t i = begin; i < end; ++i)
            values[i] = std::bit_cast<float>(static_cast<std::uint32_t>(narrow[i]) << 16U);
    });
}

}  // namespace jevrin::inline v1
