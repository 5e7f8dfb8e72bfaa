#include "jevrin/images/image.hpp"

#include <algorithm>
#include <cassert>

namespace jevrin {
namespace {

// For one output coordinate: the input coordinates it takes, with weights that sum to weight_one.
struct Taps {
    std::int64_t first = 0;
    std::vector<std::int64_t> weights;
};

constexpr std::int64_t weight_one = 1 << 14;

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
            taps.weights.push_back(due - given);
            given = due;
        }
    }
    return filters;
}

}  // namespace

Image resize(const Image& image, std::int64_t width, std::int64_t height) {
    assert(width > 0 && height > 0);
    if (image.width == width && image.height == height) return image;
    const std::vector<Taps> columns = filter(image.width, width);
    const std::vector<Taps> rows = filter(image.height, height);
    // Rows first in x, kept with 14 fractional bits until the end.
    std::vector<std::int32_t> wide(static_cast<std::size_t>(width * image.height * 3));
    for (std::int64_t y = 0; y < image.height; ++y)
        for (std::int64_t x = 0; x < width; ++x) {
            const Taps& taps = columns[static_cast<std::size_t>(x)];
            std::int64_t sums[3] = {};
            for (std::size_t k = 0; k < taps.weights.size(); ++k) {
                const std::uint8_t* pixel = image.at(taps.first + static_cast<std::int64_t>(k), y);
                for (int c = 0; c < 3; ++c) sums[c] += pixel[c] * taps.weights[k];
            }
            for (int c = 0; c < 3; ++c)
                wide[static_cast<std::size_t>((y * width + x) * 3 + c)] = static_cast<std::int32_t>(sums[c]);
        }
    Image result(width, height);
    for (std::int64_t y = 0; y < height; ++y) {
        const Taps& taps = rows[static_cast<std::size_t>(y)];
        for (std::int64_t i = 0; i < width * 3; ++i) {
            std::int64_t sum = 0;
            for (std::size_t k = 0; k < taps.weights.size(); ++k)
                sum += wide[static_cast<std::size_t>((taps.first + static_cast<std::int64_t>(k)) * width * 3 +
                                                     i)] *
                       taps.weights[k];
            const std::int64_t rounded = (sum + weight_one * weight_one / 2) / (weight_one * weight_one);
            result.pixels[static_cast<std::size_t>(y * width * 3 + i)] =
                static_cast<std::uint8_t>(std::clamp<std::int64_t>(rounded, 0, 255));
        }
    }
    return result;
}

}  // namespace jevrin
