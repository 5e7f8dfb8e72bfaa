// Pairs of sums for each channel over rows [pixels, channels], in double: some channels at a time, so that
// their sums stay in registers.
#pragma once

#include "jevrin/base/parallel.hpp"

#include <algorithm>
#include <cstdint>
#include <cstring>

namespace jevrin::inline v1 {

// Eight channels at once, or a single one: the types of stored numbers and of sums.
struct EightChannels {
    typedef float Stored __attribute__((vector_size(8 * sizeof(float))));
    typedef double Sum __attribute__((vector_size(8 * sizeof(double))));
    static constexpr std::int64_t count = 8;
    static Sum widen(Stored v) { return __builtin_convertvector(v, Sum); }
};
struct OneChannel {
    using Stored = float;
    using Sum = double;
    static constexpr std::int64_t count = 1;
    static Sum widen(Stored v) { return static_cast<double>(v); }
};

// Some vectors of channels side by side: what kind, and how many.
template <typename LanesOf, int vectors_of>
struct Strip {
    using Lanes = LanesOf;
    static constexpr int vectors = vectors_of;
    static constexpr std::int64_t width = vectors * Lanes::count;

    static typename Lanes::Sum load(const float* from, int vector) {
        typename Lanes::Stored v;
        std::memcpy(&v, from + vector * Lanes::count, sizeof(v));
        return Lanes::widen(v);
    }
};

// Adds the terms that make(Strip(), channel) gives, over rows, for the channels of a strip; ahead is how many
// elements further memory is fetched meanwhile.
template <typename Strip, typename Make>
void sum_strip(IndexRange rows, std::int64_t channels, std::int64_t channel, std::int64_t ahead,
               const Make& make, double* first, double* second) {
    using Lanes = typename Strip::Lanes;
    constexpr std::int64_t line = 16;
    const auto terms = make(Strip(), channel);
    typename Lanes::Sum a[Strip::vectors];
    typename Lanes::Sum b[Strip::vectors];
    std::memcpy(a, first + channel, sizeof(a));
    std::memcpy(b, second + channel, sizeof(b));
    for (std::int64_t row = rows.begin; row < rows.end; ++row) {
        const std::int64_t place = row * channels + channel;
        for (std::int64_t c = 0; c + line <= Strip::width; c += line) terms.fetch(place + ahead + c);
        terms.add(place, a, b);
    }
    std::memcpy(first + channel, a, sizeof(a));
    std::memcpy(second + channel, b, sizeof(b));
}

// The same for all strips of some columns, in blocks of rows that stay in the first-level cache while the
// strips are gone through. Sums are added to first and second [channels].
template <typename Make>
void sum_rows(IndexRange rows, IndexRange columns, std::int64_t channels, const Make& make, double* first,
              double* second) {
    constexpr std::int64_t block_elements = 2048;
    const std::int64_t step = std::max<std::int64_t>(1, block_elements / (columns.end - columns.begin));
    for (std::int64_t row = rows.begin; row < rows.end; row += step) {
        const IndexRange block{row, std::min(row + step, rows.end)};
        const std::int64_t ahead = block.end < rows.end ? step * channels : 0;
        std::int64_t c = columns.begin;
        const auto strips_of = [&](auto strip) {
            using Strip = decltype(strip);
            for (; c + Strip::width <= columns.end; c += Strip::width)
                sum_strip<Strip>(block, channels, c, ahead, make, first, second);
        };
        strips_of(Strip<EightChannels, 4>());
        strips_of(Strip<EightChannels, 2>());
        strips_of(Strip<EightChannels, 1>());
        strips_of(Strip<OneChannel, 1>());
    }
}

}  // namespace jevrin::inline v1
