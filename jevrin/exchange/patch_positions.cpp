// Transformers at another image size than their files are made for: learned positions, and the numbers of
// patches in shapes.
#include "jevrin/exchange/graph_reader.hpp"

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Tokens that may stand before those of the patches: a class token, and further ones.
constexpr std::int64_t most_extra_tokens = 8;

// Cubic convolution (Keys 1981).
double cubic_weight(double distance) {
    constexpr double a = -0.75;
    const double x = std::abs(distance);
    if (x <= 1.0) return ((a + 2.0) * x - (a + 3.0)) * x * x + 1.0;
    if (x < 2.0) return ((a * x - 5.0 * a) * x + 8.0 * a) * x - 4.0 * a;
    return 0.0;
}

// [outer, from, inner] to [outer, to, inner], the edge repeated.
std::vector<double> resample(const std::vector<double>& values, std::int64_t outer, std::int64_t from,
                             std::int64_t to, std::int64_t inner) {
    std::vector<double> result(static_cast<std::size_t>(outer * to * inner), 0.0);
    for (std::int64_t i = 0; i < to; ++i) {
        const double at =
            (static_cast<double>(i) + 0.5) * static_cast<double>(from) / static_cast<double>(to) - 0.5;
        const auto first = static_cast<std::int64_t>(std::floor(at)) - 1;
        for (std::int64_t place = first; place < first + 4; ++place) {
            const double weight = cubic_weight(static_cast<double>(place) - at);
            const std::int64_t source = std::clamp<std::int64_t>(place, 0, from - 1);
            for (std::int64_t o = 0; o < outer; ++o)
                for (std::int64_t k = 0; k < inner; ++k)
                    result[static_cast<std::size_t>((o * to + i) * inner + k)] +=
                        weight * values[static_cast<std::size_t>((o * from + source) * inner + k)];
        }
    }
    return result;
}

}  // namespace

void GraphReader::note_patches(const Window& w) {
    const bool cuts = w.kernel_height == w.stride_height && w.kernel_width == w.stride_width &&
                      w.kernel_height * w.kernel_width > 1;
    if (!settings_.resample_positions || !settings_.image_size || !stated_size_ || !cuts || patches_) return;
    const auto grid = [&](const ImageSize& size) {
        return ImageSize(size.height / w.stride_height, size.width / w.stride_width);
    };
    patches_ = PatchGrids{grid(*stated_size_), grid(*settings_.image_size)};
}

// Positions [.., extra tokens + patches, channels], or [.., height, width] of a map, where the value has
// those of the wanted grid.
std::optional<Folded> GraphReader::resampled_positions(const Folded& constant, const Shape& value) const {
    if (!patches_ || patches_->stated == patches_->wanted || constant.shape.size() < 2 || value.size() < 2)
        return std::nullopt;
    const auto& [stated, wanted] = *patches_;
    Folded result = constant;
    const std::size_t rank = constant.shape.size();
    const std::int64_t rows = constant.shape[rank - 2];
    const std::int64_t columns = constant.shape[rank - 1];
    const bool map = rows == stated.height && columns == stated.width &&
                     value[value.size() - 2] == wanted.height && value.back() == wanted.width;
    if (map) {
        const std::int64_t outer = std::ssize(constant.values) / (rows * columns);
        result.values = resample(constant.values, outer, stated.height, wanted.height, columns);
        result.values = resample(result.values, outer * wanted.height, stated.width, wanted.width, 1);
        result.shape[rank - 2] = wanted.height;
        result.shape[rank - 1] = wanted.width;
        return result;
    }
    const std::int64_t extra = rows - stated.pixels();
    const bool tokens = extra >= 0 && extra <= most_extra_tokens && columns == value.back() &&
                        rows * columns == std::ssize(constant.values) &&
                        value[value.size() - 2] == wanted.pixels() + extra;
    if (!tokens) return std::nullopt;
    const auto grid_begin = constant.values.begin() + static_cast<std::ptrdiff_t>(extra * columns);
    std::vector<double> grid(grid_begin, constant.values.end());
    grid = resample(grid, 1, stated.height, wanted.height, stated.width * columns);
    grid = resample(grid, wanted.height, stated.width, wanted.width, columns);
    result.values.assign(constant.values.begin(), grid_begin);
    result.values.insert(result.values.end(), grid.begin(), grid.end());
    result.shape[rank - 2] = wanted.pixels() + extra;
    return result;
}

// A shape that is written into the file for its own number of patches, for the wanted one.
std::vector<std::int64_t> GraphReader::with_wanted_patches(const std::vector<std::int64_t>& shape,
                                                           const Shape& from) const {
    const std::int64_t total = element_count(from);
    const auto fits = [&](const std::vector<std::int64_t>& one) {
        std::int64_t known = 1;
        bool open = false;
        for (const std::int64_t size : one) {
            open = open || size == -1;
            if (size == 0) return true;  // copied from what is reshaped
            if (size > total) return false;
            if (size > 0) known *= size;
            if (known > total) return false;
        }
        return open ? total % known == 0 : total == known;
    };
    if (!patches_ || patches_->stated == patches_->wanted) return shape;
    // What is written for the stated grid may fit by chance, so that the wanted one is tried first.
    const auto& [stated, wanted] = *patches_;
    for (std::int64_t extra = 0; extra <= most_extra_tokens; ++extra) {
        // A dimension that the value has already is another one of the same length.
        for (std::size_t d = 0; d < shape.size(); ++d) {
            if (shape[d] != stated.pixels() + extra || (d < from.size() && from[d] == shape[d])) continue;
            std::vector<std::int64_t> other = shape;
            other[d] = wanted.pixels() + extra;
            if (fits(other)) return other;
        }
    }
    std::vector<std::int64_t> other = shape;
    const auto rows = std::ranges::find(other, stated.height);
    if (rows != other.end() && rows + 1 != other.end() && *(rows + 1) == stated.width) {
        *rows = wanted.height;
        *(rows + 1) = wanted.width;
        if (fits(other)) return other;
    }
    return shape;
}

}  // namespace jevrin::inline v1
