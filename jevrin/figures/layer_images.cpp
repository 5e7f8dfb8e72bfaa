#include "jevrin/figures/layer_images.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

// Small maps are shown with square pixels, not blurred.
constexpr std::int64_t least_side = 96;

Image enlarged(const Image& image) {
    const std::int64_t times = std::max<std::int64_t>(1, least_side / std::max(image.width, image.height));
    Image large(image.width * times, image.height * times);
    for (std::int64_t y = 0; y < large.height; ++y)
        for (std::int64_t x = 0; x < large.width; ++x)
            std::copy_n(image.at(x / times, y / times), 3, large.at(x, y));
    return large;
}

// value(x, y) from low to high, black to white.
template <typename Value>
Image map_image(std::int64_t width, std::int64_t height, Value value) {
    float low = value(0, 0);
    float high = low;
    for (std::int64_t y = 0; y < height; ++y)
        for (std::int64_t x = 0; x < width; ++x) {
            low = std::min(low, value(x, y));
            high = std::max(high, value(x, y));
        }
    Image image(width, height);
    const float range = high > low ? high - low : 1.0F;
    for (std::int64_t y = 0; y < height; ++y)
        for (std::int64_t x = 0; x < width; ++x)
            std::fill_n(image.at(x, y), 3,
                        static_cast<std::uint8_t>(std::lround(255.0F * (value(x, y) - low) / range)));
    return enlarged(image);
}

}  // namespace

SheetRow filter_images(const Tensor& filters, std::size_t most) {
    const Shape& s = filters.shape();
    const std::int64_t shown = std::min<std::int64_t>(s[3], static_cast<std::int64_t>(most));
    SheetRow row{
        .label = fmt::format("first filters: {} of {}, {}x{} on {} channels", shown, s[3], s[0], s[1], s[2])};
    for (std::int64_t out = 0; out < shown; ++out) {
        const auto weight = [&](std::int64_t x, std::int64_t y, std::int64_t channel) {
            float sum = 0.0F;
            for (std::int64_t in = 0; in < s[2]; ++in)
                if (s[2] != 3 || in == channel)
                    sum += filters.data()[((y * s[1] + x) * s[2] + in) * s[3] + out];
            return sum;
        };
        float largest = 1e-12F;
        for (std::int64_t y = 0; y < s[0]; ++y)
            for (std::int64_t x = 0; x < s[1]; ++x)
                for (std::int64_t c = 0; c < 3; ++c) largest = std::max(largest, std::abs(weight(x, y, c)));
        Image image(s[1], s[0]);
        for (std::int64_t y = 0; y < s[0]; ++y)
            for (std::int64_t x = 0; x < s[1]; ++x)
                for (std::int64_t c = 0; c < 3; ++c)
                    image.at(x, y)[c] =
                        static_cast<std::uint8_t>(std::lround(127.5F + 127.5F * weight(x, y, c) / largest));
        row.images.push_back(enlarged(image));
    }
    return row;
}

SheetRow map_images(const StageActivation& stage, std::size_t most) {
    const Shape& s = stage.values.shape();
    const float* values = stage.values.data();
    SheetRow row;
    if (s.size() == 2) {
        // The square of patches, without the class token before it.
        const auto side = static_cast<std::int64_t>(std::sqrt(static_cast<double>(s[0])));
        const std::int64_t first = s[0] - side * side;
        if (side < 2 || first > 1) return row;
        row.label = fmt::format("{}: {}, length of each token", printable(stage.stage), to_string(s));
        row.images.push_back(map_image(side, side, [&](std::int64_t x, std::int64_t y) {
            const float* token = values + (first + y * side + x) * s[1];
            return std::sqrt(std::inner_product(token, token + s[1], token, 0.0F));
        }));
        return row;
    }
    if (s.size() != 3 || s[0] * s[1] < 2) return row;
    std::vector<double> variance(static_cast<std::size_t>(s[2]), 0.0);
    for (std::int64_t c = 0; c < s[2]; ++c) {
        double sum = 0.0;
        double squares = 0.0;
        for (std::int64_t p = 0; p < s[0] * s[1]; ++p) {
            const auto v = static_cast<double>(values[p * s[2] + c]);
            sum += v;
            squares += v * v;
        }
        variance[static_cast<std::size_t>(c)] = squares - sum * sum / static_cast<double>(s[0] * s[1]);
    }
    std::vector<std::int64_t> order(variance.size());
    std::iota(order.begin(), order.end(), std::int64_t{0});
    std::stable_sort(order.begin(), order.end(), [&](std::int64_t a, std::int64_t b) {
        return variance[static_cast<std::size_t>(a)] > variance[static_cast<std::size_t>(b)];
    });
    order.resize(std::min(order.size(), most));
    row.label =
        fmt::format("{}: {}, the {} maps that vary most", printable(stage.stage), to_string(s), order.size());
    for (const std::int64_t c : order)
        row.images.push_back(map_image(
            s[1], s[0], [&](std::int64_t x, std::int64_t y) { return values[(y * s[1] + x) * s[2] + c]; }));
    return row;
}

}  // namespace jevrin::inline v1
