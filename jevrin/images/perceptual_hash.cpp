#include "jevrin/images/perceptual_hash.hpp"

#include <bit>
#include <cassert>
#include <cmath>
#include <numbers>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t side = hash_image_side;
constexpr std::size_t kept = 16;  // frequencies in each direction

// cosines[place][frequency]: the sums of frequencies are independent, so that loops over them become vectors.
const std::array<std::array<double, kept>, side>& cosines() {
    static const auto table = [] {
        std::array<std::array<double, kept>, side> result{};
        for (std::size_t x = 0; x < side; ++x)
            for (std::size_t f = 0; f < kept; ++f)
                result[x][f] = std::cos(std::numbers::pi * static_cast<double>(f) *
                                        (static_cast<double>(x) + 0.5) / static_cast<double>(side));
        return result;
    }();
    return table;
}

}  // namespace

PerceptualHash perceptual_hash_of(std::span<const std::uint8_t> grey) {
    assert(grey.size() == side * side);
    const auto& cosine = cosines();
    std::array<std::array<double, kept>, kept> sums{};  // [vertical frequency][horizontal frequency]
    for (std::size_t y = 0; y < side; ++y) {
        std::array<double, kept> row{};
        for (std::size_t x = 0; x < side; ++x) {
            const double value = grey[y * side + x];
            for (std::size_t u = 0; u < kept; ++u) row[u] += cosine[x][u] * value;
        }
        for (std::size_t v = 0; v < kept; ++v)
            for (std::size_t u = 0; u < kept; ++u) sums[v][u] += cosine[y][v] * row[u];
    }
    PerceptualHash hash{};
    for (std::size_t v = 0; v < kept; ++v)
        for (std::size_t u = 0; u < kept; ++u) {
            if (u == 0 && v == 0) continue;  // the brightness alone
            const std::size_t place = v * kept + u;
            // A coefficient of rounding errors alone is zero.
            if (sums[v][u] > 1e-6) hash[place / 64] |= std::uint64_t{1} << (place % 64);
        }
    return hash;
}

int distance(const PerceptualHash& a, const PerceptualHash& b) {
    int bits = 0;
    for (std::size_t i = 0; i < a.size(); ++i) bits += std::popcount(a[i] ^ b[i]);
    return bits;
}

}  // namespace jevrin::inline v1
