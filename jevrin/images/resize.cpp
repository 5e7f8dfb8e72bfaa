#include "jevrin/images/image.hpp"

#include <algorithm>
#include <cassert>
#include <span>

namespace jevrin {
namespace {

// For one output coordinate: the input coordinates it takes, with weights that sum to weight_one.
struct Taps {
    std::int64_t first = 0;
    std::vector<std::int32_t> weights;  // none is negative
};

constexpr std::int32_t weight_one = 1 << 14;

// A triangle filter with exact rational positions: distances are counted in 1 / (2 * out) of an input pixel.
std::vector<Taps> filter(std::int64_t in, std::int64_t out) {
    std::vector<Taps> filters(static_cast<std::size_t>(out));
    const std::int64_t unit = 2 * out;                  // one input pixel
    const std::int64_t reach = std::max(unit, 2 * in);  // half-width of the triangle
    for (std::int64_t o = 0; o < out; ++o) {
        const std::int64_t centre = (2 * o + 1) * in;  // of the output pixel
        const std::int64_t first = std::max<std::int64_t>(0, (centre - reach) / unit);
        const std::int64_t last = std::min(in - 1, (centre + reach) / unit);
        Taps& taps = filters[static_cast<std::size_t>(o)];
        taps.first = first;
        std::vector<std::int64_t> raw;
        std::int64_t total = 0;
        for (std::int64_t i = first; i <= last; ++i) {
            const std::int64_t distance = std::abs(i * unit + out - centre);
            raw.push_back(std::max<std::int64_t>(0, reach - distance));
            total += raw.back();
        }
        // Rounding what has been given out so far keeps the sum exact.
        std::int64_t seen = 0;
        std::int64_t given = 0;
        for (const std::int64_t weight : raw) {
            seen += weight;
            const std::int64_t due = (seen * weight_one * 2 + total) / (2 * total);
            taps.weights.push_back(static_cast<std::int32_t>(due - given));
            given = due;
        }
    }
    return filters;
}

// One row of sums over the rows that an output row takes, with 14 fractional bits.
void sum_rows(const Image& image, const Taps& taps, std::span<std::int32_t> sums) {
    std::fill(sums.begin(), sums.end(), 0);
    for (std::size_t k = 0; k < taps.weights.size(); ++k) {
        const std::uint8_t* row = image.at(0, taps.first + static_cast<std::int64_t>(k));
        const std::int32_t weight = taps.weights[k];
        for (std::size_t i = 0; i < sums.size(); ++i) sums[i] += weight * row[i];
    }
}

std::uint8_t rounded(std::int64_t sum) {
    constexpr std::int64_t one = std::int64_t{weight_one} * weight_one;
    return static_cast<std::uint8_t>((sum + one / 2) / one);
}

}  // namespace

Image resize(const Image& image, std::int64_t width, std::int64_t height) {
    assert(width > 0 && height > 0);
    if (image.width == width && image.height == height) return image;
    const std::vector<Taps> columns = filter(image.width, width);
    const std::vector<Taps> rows = filter(image.height, height);
    Image result(width, height);
    std::vector<std::int32_t> sums(static_cast<std::size_t>(image.width * 3));
    for (std::int64_t y = 0; y < height; ++y) {
        sum_rows(image, rows[static_cast<std::size_t>(y)], sums);
        for (std::int64_t x = 0; x < width; ++x) {
            const Taps& taps = columns[static_cast<std::size_t>(x)];
            std::int64_t red = 0;
            std::int64_t green = 0;
            std::int64_t blue = 0;
            const std::int32_t* from = sums.data() + taps.first * 3;
            for (const std::int64_t weight : taps.weights) {
                red += weight * from[0];
                green += weight * from[1];
                blue += weight * from[2];
                from += 3;
            }
            std::uint8_t* to = result.at(x, y);
            to[0] = rounded(red);
            to[1] = rounded(green);
            to[2] = rounded(blue);
        }
    }
    return result;
}

}  // namespace jevrin
