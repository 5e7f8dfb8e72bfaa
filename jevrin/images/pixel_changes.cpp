#include "jevrin/images/pixel_changes.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace jevrin::inline v1 {
namespace {

// Scratch that each thread keeps: augmentation allocates nothing once it is warm.
template <int purpose>
std::uint8_t* scratch(std::size_t size) {
    thread_local std::vector<std::uint8_t> bytes;
    if (bytes.size() < size) bytes.resize(size);
    return bytes.data();
}

std::uint8_t* copy_of(const PixelGrid& grid) {
    std::uint8_t* copy = scratch<0>(static_cast<std::size_t>(grid.values()));
    std::copy_n(grid.pixels, grid.values(), copy);
    return copy;
}

std::uint8_t to_byte(float value) {
    return static_cast<std::uint8_t>(std::clamp(value + 0.5F, 0.0F, 255.0F));
}

void move_whole_pixels(const PixelGrid& grid, const std::uint8_t* from, const Movement& m) {
    const std::int64_t channels = grid.channels;
    for (std::int64_t y = 0; y < grid.height; ++y) {
        const std::int64_t shifted_y = std::clamp<std::int64_t>(y - m.dy, 0, grid.height - 1);
        const std::int64_t from_y = m.upside_down ? grid.height - 1 - shifted_y : shifted_y;
        for (std::int64_t x = 0; x < grid.width; ++x) {
            const std::int64_t shifted = std::clamp<std::int64_t>(x - m.dx, 0, grid.width - 1);
            const std::int64_t from_x = m.mirrored ? grid.width - 1 - shifted : shifted;
            std::copy_n(from + (from_y * grid.width + from_x) * channels, channels,
                        grid.pixels + (y * grid.width + x) * channels);
        }
    }
}

// source = offset + by_x * x + by_y * y, in pixels whose centres are integers.
struct AffineMap {
    std::array<double, 2> offset;
    std::array<double, 2> by_x;
    std::array<double, 2> by_y;
};

AffineMap map_of(const PixelGrid& grid, const Movement& m) {
    const auto width = static_cast<double>(grid.width);
    const auto height = static_cast<double>(grid.height);
    const double angle = m.degrees * std::numbers::pi / 180.0;
    const double cosine = std::cos(angle) / m.zoom;
    const double sine = std::sin(angle) / m.zoom;
    const double flip_x = m.mirrored ? -1.0 : 1.0;
    const double flip_y = m.upside_down ? -1.0 : 1.0;
    // From the centre of the result to the centre of the crop.
    const double to_x = m.crop_width;
    const double to_y = m.crop_height;
    AffineMap map{};
    map.by_x = {to_x * cosine * flip_x, to_y * sine * flip_x};
    map.by_y = {-to_x * sine * flip_y, to_y * cosine * flip_y};
    const double from_x = 0.5 - static_cast<double>(m.dx) - width / 2;
    const double from_y = 0.5 - static_cast<double>(m.dy) - height / 2;
    map.offset = {
        (m.crop_left + m.crop_width / 2) * width + map.by_x[0] * from_x + map.by_y[0] * from_y - 0.5,
        (m.crop_top + m.crop_height / 2) * height + map.by_x[1] * from_x + map.by_y[1] * from_y - 0.5};
    return map;
}

template <int channels>
void interpolate(const PixelGrid& grid, const std::uint8_t* from, const AffineMap& map) {
    const auto last_x = static_cast<float>(grid.width - 1);
    const auto last_y = static_cast<float>(grid.height - 1);
    for (std::int64_t y = 0; y < grid.height; ++y) {
        std::uint8_t* to = grid.pixels + y * grid.width * channels;
        const auto row = static_cast<double>(y);
        for (std::int64_t x = 0; x < grid.width; ++x, to += channels) {
            const auto column = static_cast<double>(x);
            const float source_x = std::clamp(
                static_cast<float>(map.offset[0] + map.by_x[0] * column + map.by_y[0] * row), 0.0F, last_x);
            const float source_y = std::clamp(
                static_cast<float>(map.offset[1] + map.by_x[1] * column + map.by_y[1] * row), 0.0F, last_y);
            const auto left = static_cast<std::int64_t>(source_x);
            const auto top = static_cast<std::int64_t>(source_y);
            const float correct_fraction = source_x - static_cast<float>(left);
            const float below_share = source_y - static_cast<float>(top);
            const std::uint8_t* upper = from + (top * grid.width + left) * channels;
            const std::int64_t right = left + 1 < grid.width ? channels : 0;
            const std::uint8_t* lower = upper + (top + 1 < grid.height ? grid.width * channels : 0);
            for (int c = 0; c < channels; ++c) {
                const auto mix = [&](const std::uint8_t* p) {
                    const float value = p[c];
                    return value + (static_cast<float>(p[right + c]) - value) * correct_fraction;
                };
                const float above = mix(upper);
                to[c] = to_byte(above + (mix(lower) - above) * below_share);
            }
        }
    }
}

// The mean of each channel.
std::array<double, 3> means(const PixelGrid& grid) {
    std::array<std::uint64_t, 3> sums{};
    const auto channels = static_cast<std::size_t>(grid.channels);
    for (std::size_t i = 0; i < static_cast<std::size_t>(grid.values()); i += channels)
        for (std::size_t c = 0; c < channels; ++c) sums[c] += grid.pixels[i + c];
    std::array<double, 3> result{};
    for (std::size_t c = 0; c < channels; ++c)
        result[c] = static_cast<double>(sums[c]) / static_cast<double>(grid.width * grid.height);
    return result;
}

// Weights of grey (BT.601).
constexpr std::array<double, 3> grey_weights = {0.299, 0.587, 0.114};

using Matrix = std::array<std::array<double, 3>, 3>;

// Rotation about the grey axis (Rodrigues 1840), then towards or away from grey.
Matrix colour_matrix(const Recolouring& r) {
    const double angle = r.hue_degrees * std::numbers::pi / 180.0;
    const double third = (1.0 - std::cos(angle)) / 3.0;
    const double turn = std::sin(angle) / std::numbers::sqrt3;
    const double keep = std::cos(angle) + third;
    const Matrix hue = {{{keep, third - turn, third + turn},
                         {third + turn, keep, third - turn},
                         {third - turn, third + turn, keep}}};
    Matrix matrix{};
    for (std::size_t i = 0; i < 3; ++i)
        for (std::size_t j = 0; j < 3; ++j) {
            double grey = 0.0;
            for (std::size_t k = 0; k < 3; ++k) grey += grey_weights[k] * hue[k][j];
            matrix[i][j] = (1.0 + r.contrast) * (grey + (hue[i][j] - grey) * (1.0 + r.saturation));
        }
    return matrix;
}

}  // namespace

void move(const PixelGrid& grid, const Movement& m) {
    const std::uint8_t* from = copy_of(grid);
    const bool whole_pixels =
        m.degrees == 0.0 && m.zoom == 1.0 && m.crop_width == 1.0 && m.crop_height == 1.0;
    if (whole_pixels)
        move_whole_pixels(grid, from, m);
    else if (grid.channels == 3)
        interpolate<3>(grid, from, map_of(grid, m));
    else
        interpolate<1>(grid, from, map_of(grid, m));
}

void recolour(const PixelGrid& grid, const Recolouring& r) {
    const std::array<double, 3> mean = means(grid);
    const auto count = grid.width * grid.height;
    if (grid.channels == 1) {
        const auto factor = static_cast<float>(1.0 + r.contrast);
        const auto added = static_cast<float>(255.0 * r.brightness - r.contrast * mean[0]);
        for (std::int64_t p = 0; p < count; ++p)
            grid.pixels[p] = to_byte(factor * static_cast<float>(grid.pixels[p]) + added);
        return;
    }
    const double grey = grey_weights[0] * mean[0] + grey_weights[1] * mean[1] + grey_weights[2] * mean[2];
    const auto added = static_cast<float>(255.0 * r.brightness - r.contrast * grey);
    const Matrix matrix = colour_matrix(r);
    float m[9];
    for (std::size_t i = 0; i < 9; ++i) m[i] = static_cast<float>(matrix[i / 3][i % 3]);
    for (std::int64_t p = 0; p < count; ++p) {
        std::uint8_t* pixel = grid.pixels + p * 3;
        const float red = pixel[0];
        const float green = pixel[1];
        const float blue = pixel[2];
        pixel[0] = to_byte(m[0] * red + m[1] * green + m[2] * blue + added);
        pixel[1] = to_byte(m[3] * red + m[4] * green + m[5] * blue + added);
        pixel[2] = to_byte(m[6] * red + m[7] * green + m[8] * blue + added);
    }
}

void blur(const PixelGrid& grid, double deviation) {
    const auto reach = static_cast<std::int64_t>(std::ceil(2.5 * deviation));
    std::vector<float> weights;
    float total = 0.0F;
    for (std::int64_t k = -reach; k <= reach; ++k) {
        const double distance = static_cast<double>(k) / deviation;
        weights.push_back(static_cast<float>(std::exp(-distance * distance / 2)));
        total += weights.back();
    }
    for (float& weight : weights) weight /= total;
    const std::int64_t channels = grid.channels;
    const std::int64_t row = grid.width * channels;
    // Along rows, then along columns; rounded once, at the end.
    std::vector<float> wide(static_cast<std::size_t>(grid.values()));
    for (std::int64_t y = 0; y < grid.height; ++y)
        for (std::int64_t x = 0; x < grid.width; ++x)
            for (std::int64_t k = -reach; k <= reach; ++k) {
                const std::int64_t from = std::clamp<std::int64_t>(x + k, 0, grid.width - 1);
                const float weight = weights[static_cast<std::size_t>(k + reach)];
                for (std::int64_t c = 0; c < channels; ++c)
                    wide[static_cast<std::size_t>(y * row + x * channels + c)] +=
                        weight * static_cast<float>(grid.pixels[y * row + from * channels + c]);
            }
    std::vector<float> sums(static_cast<std::size_t>(row));
    for (std::int64_t y = 0; y < grid.height; ++y) {
        std::fill(sums.begin(), sums.end(), 0.0F);
        for (std::int64_t k = -reach; k <= reach; ++k) {
            const std::int64_t from = std::clamp<std::int64_t>(y + k, 0, grid.height - 1);
            const float weight = weights[static_cast<std::size_t>(k + reach)];
            const float* source = wide.data() + from * row;
            for (std::int64_t i = 0; i < row; ++i) sums[static_cast<std::size_t>(i)] += weight * source[i];
        }
        for (std::int64_t i = 0; i < row; ++i)
            grid.pixels[y * row + i] = to_byte(sums[static_cast<std::size_t>(i)]);
    }
}

void add_noise(const PixelGrid& grid, double deviation, RandomStream& stream) {
    // Four uniform bytes have the mean 510 and the deviation 147.8.
    const auto factor = static_cast<float>(deviation * 255.0 / std::sqrt(4.0 * (256.0 * 256.0 - 1.0) / 12.0));
    for (std::int64_t i = 0; i < grid.values(); ++i) {
        const std::uint32_t bits = stream.bits();
        const auto sum =
            static_cast<float>((bits & 255U) + (bits >> 8 & 255U) + (bits >> 16 & 255U) + (bits >> 24));
        grid.pixels[i] = to_byte(static_cast<float>(grid.pixels[i]) + (sum - 510.0F) * factor);
    }
}

void erase(const PixelGrid& grid, double area, double aspect, double x, double y) {
    const auto length = [&](double share, std::int64_t side) {
        return std::clamp<std::int64_t>(std::llround(share * static_cast<double>(side)), 1, side);
    };
    const std::int64_t width = length(std::sqrt(area * aspect), grid.width);
    const std::int64_t height = length(std::sqrt(area / aspect), grid.height);
    const auto left = static_cast<std::int64_t>(x * static_cast<double>(grid.width - width + 1));
    const auto top = static_cast<std::int64_t>(y * static_cast<double>(grid.height - height + 1));
    const std::array<double, 3> mean = means(grid);
    for (std::int64_t row = top; row < top + height; ++row)
        for (std::int64_t column = left; column < left + width; ++column)
            for (int c = 0; c < grid.channels; ++c)
                grid.pixels[(row * grid.width + column) * grid.channels + c] =
                    to_byte(static_cast<float>(mean[static_cast<std::size_t>(c)]));
}

void lay_over(const PixelGrid& grid, const Cutout& cutout, const std::array<double, 2>& centre, double size,
              double opacity) {
    const Image& colours = cutout.colours;
    const double longer = size * static_cast<double>(std::min(grid.width, grid.height));
    const double factor = longer / static_cast<double>(std::max(colours.width, colours.height));
    const auto scaled = [&](std::int64_t side) {
        return std::max<std::int64_t>(1, std::llround(factor * static_cast<double>(side)));
    };
    // Colours weighted by alpha, so that what is invisible does not shine through at the edges.
    Image weighted = colours;
    Image alpha(colours.width, colours.height);
    for (std::size_t i = 0; i < weighted.pixels.size(); ++i) {
        alpha.pixels[i] = cutout.alpha[i / 3];
        weighted.pixels[i] = static_cast<std::uint8_t>((weighted.pixels[i] * alpha.pixels[i] + 127) / 255);
    }
    weighted = resize(weighted, scaled(colours.width), scaled(colours.height));
    alpha = resize(alpha, weighted.width, weighted.height);
    const std::int64_t left = std::llround(centre[0] * static_cast<double>(grid.width)) - weighted.width / 2;
    const std::int64_t top = std::llround(centre[1] * static_cast<double>(grid.height)) - weighted.height / 2;
    for (std::int64_t y = std::max<std::int64_t>(0, -top); y < std::min(weighted.height, grid.height - top);
         ++y)
        for (std::int64_t x = std::max<std::int64_t>(0, -left);
             x < std::min(weighted.width, grid.width - left); ++x) {
            const std::uint8_t* over = weighted.at(x, y);
            const double hidden = opacity * alpha.at(x, y)[0] / 255.0;
            std::uint8_t* pixel = grid.pixels + ((top + y) * grid.width + left + x) * grid.channels;
            const double grey =
                grey_weights[0] * over[0] + grey_weights[1] * over[1] + grey_weights[2] * over[2];
            for (int c = 0; c < grid.channels; ++c) {
                const double value = grid.channels == 1 ? grey : over[c];
                pixel[c] = to_byte(static_cast<float>(opacity * value + (1.0 - hidden) * pixel[c]));
            }
        }
}

}  // namespace jevrin::inline v1
