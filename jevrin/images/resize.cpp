#include "jevrin/images/image.hpp"

#include <algorithm>
#include <cassert>
#include <span>

namespace jevrin::inline v1 {
namespace {

// For each output coordinate the input coordinates it takes: `taps` of them from first[o] on, with weights
// that sum to weight_one; those that it does not need are zero.
struct Filter {
    std::size_t taps = 0;
    std::vector<std::int64_t> first;
    std::vector<std::int32_t> weights;  // [output, taps], none negative

    std::span<const std::int32_t> of(std::int64_t output) const {
        return std::span(weights).subspan(static_cast<std::size_t>(output) * taps, taps);
    }
};

constexpr std::int32_t weight_one = 1 << 14;
constexpr std::int64_t block = 8;  // rows that are worked on together

// A triangle filter with exact rational positions: distances are counted in 1 / (2 * out) of an input pixel.
Filter make_filter(std::int64_t in, std::int64_t out) {
    const std::int64_t unit = 2 * out;                  // one input pixel
    const std::int64_t reach = std::max(unit, 2 * in);  // half-width of the triangle
    Filter filter;
    filter.taps = static_cast<std::size_t>(std::min(in, 2 * reach / unit + 1));
    filter.weights.assign(static_cast<std::size_t>(out) * filter.taps, 0);
    const auto taps = static_cast<std::int64_t>(filter.taps);
    for (std::int64_t o = 0; o < out; ++o) {
        const std::int64_t centre = (2 * o + 1) * in;  // of the output pixel
        // The window stays inside the input, so that no tap has to be asked where it lies.
        const std::int64_t first =
            std::clamp<std::int64_t>((centre - reach - out + unit - 1) / unit, 0, in - taps);
        filter.first.push_back(first);
        const auto raw = [&](std::int64_t i) {
            return std::max<std::int64_t>(0, reach - std::abs(i * unit + out - centre));
        };
        std::int64_t total = 0;
        for (std::int64_t k = 0; k < taps; ++k) total += raw(first + k);
        // Rounding what has been given out so far keeps the sum exact.
        std::int64_t seen = 0;
        std::int64_t given = 0;
        for (std::int64_t k = 0; k < taps; ++k) {
            seen += raw(first + k);
            const std::int64_t due = (seen * weight_one * 2 + total) / (2 * total);
            filter.weights[static_cast<std::size_t>(o * taps + k)] = static_cast<std::int32_t>(due - given);
            given = due;
        }
    }
    return filter;
}

// The weighted sum of the input rows that an output row takes, times weight_one: below 2^22.
void sum_rows(const Image& image, std::int64_t first, std::span<const std::int32_t> weights,
              std::span<std::int32_t> sums) {
    std::fill(sums.begin(), sums.end(), 0);
    for (std::size_t k = 0; k < weights.size(); ++k) {
        if (weights[k] == 0) continue;
        const std::uint8_t* row = image.at(0, first + static_cast<std::int64_t>(k));
        const std::int32_t weight = weights[k];
        for (std::size_t i = 0; i < sums.size(); ++i) sums[i] += weight * row[i];
    }
}

}  // namespace

Image resize(const Image& image, std::int64_t width, std::int64_t height) {
    assert(width > 0 && height > 0);
    if (image.width == width && image.height == height) return image;
    const Filter columns = make_filter(image.width, width);
    const Filter rows = make_filter(image.height, height);
    Image result(width, height);
    const auto values = static_cast<std::size_t>(image.width * 3);
    std::vector<std::int32_t> sums(values);
    // [column, channel, row of the block]: the rows of a block are added side by side. Whole numbers below
    // 2^24 in float and 2^53 in double: every sum is exact.
    std::vector<float> woven(values * block);
    constexpr double one = static_cast<double>(weight_one) * weight_one;
    for (std::int64_t top = 0; top < height; top += block) {
        const std::int64_t count = std::min(block, height - top);
        for (std::int64_t r = 0; r < count; ++r) {
            sum_rows(image, rows.first[static_cast<std::size_t>(top + r)], rows.of(top + r), sums);
            for (std::size_t i = 0; i < values; ++i)
                woven[i * block + static_cast<std::size_t>(r)] = static_cast<float>(sums[i]);
        }
        for (std::int64_t x = 0; x < width; ++x) {
            const float* from = woven.data() + columns.first[static_cast<std::size_t>(x)] * 3 * block;
            double totals[3 * block];
            std::fill_n(totals, 3 * block, one / 2);
            for (const std::int32_t weight : columns.of(x)) {
                for (int i = 0; i < 3 * block; ++i) totals[i] += static_cast<double>(weight) * from[i];
                from += 3 * block;
            }
            for (std::int64_t r = 0; r < count; ++r)
                for (std::int64_t c = 0; c < 3; ++c)
                    result.at(x, top + r)[c] = static_cast<std::uint8_t>(totals[c * block + r] * (1.0 / one));
        }
    }
    return result;
}

}  // namespace jevrin::inline v1
