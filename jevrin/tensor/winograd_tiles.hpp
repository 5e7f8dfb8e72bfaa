// Tiles of images and of kernels in the transforms of winograd.hpp: 16 channels at a time, a tile of 6x6
// places from one of 6x6 or 4x4 pixels or of 3x3 taps.
#pragma once

#include <algorithm>
#include <cstdint>
#include <cstring>

namespace jevrin::inline v1::winograd {

constexpr std::int64_t lanes = 16;
typedef float Vector __attribute__((vector_size(lanes * sizeof(float))));

constexpr std::int64_t places = 36;
// Places a multiple of 4 KB apart would share the same few lines of the first cache.
constexpr std::int64_t place_margin = lanes;

inline Vector load(const float* from) {
    Vector v;
    std::memcpy(&v, from, sizeof(v));
    return v;
}
inline void store(const Vector& v, float* to) {
    std::memcpy(to, &v, sizeof(v));
}

// The one-dimensional transforms.
struct SixNumbers {
    Vector v[6];
};

inline SixNumbers source_transform(const Vector* d) {  // B'
    const Vector even = d[4] - 4.0F * d[2];
    const Vector odd = d[3] - 4.0F * d[1];
    const Vector near_even = d[4] - d[2];
    const Vector near_odd = 2.0F * (d[3] - d[1]);
    return {{4.0F * d[0] - 5.0F * d[2] + d[4], even + odd, even - odd, near_even + near_odd,
             near_even - near_odd, 4.0F * d[1] - 5.0F * d[3] + d[5]}};
}

inline SixNumbers kernel_transform(const Vector* g) {  // G
    const Vector outer = g[0] + g[2];
    const Vector far = (1.0F / 24.0F) * g[0] + (1.0F / 6.0F) * g[2];
    const Vector middle = (1.0F / 12.0F) * g[1];
    return {{0.25F * g[0], (-1.0F / 6.0F) * (outer + g[1]), (-1.0F / 6.0F) * (outer - g[1]), far + middle,
             far - middle, g[2]}};
}

inline SixNumbers gradient_transform(const Vector* y) {  // A
    const Vector even = y[0] + y[2];
    const Vector odd = y[1] + y[3];
    const Vector far_even = y[0] + 4.0F * y[2];
    const Vector far_odd = 2.0F * y[1] + 8.0F * y[3];
    return {{y[0], even + odd, even - odd, far_even + far_odd, far_even - far_odd, y[3]}};
}

struct FourNumbers {
    Vector v[4];
};
inline FourNumbers output_transform(const Vector* m) {  // A'
    const Vector near_sum = m[1] + m[2];
    const Vector near_difference = m[1] - m[2];
    const Vector far_sum = m[3] + m[4];
    const Vector far_difference = m[3] - m[4];
    return {{m[0] + near_sum + far_sum, near_difference + 2.0F * far_difference, near_sum + 4.0F * far_sum,
             near_difference + 8.0F * far_difference + m[5]}};
}

struct ThreeNumbers {
    Vector v[3];
};
inline ThreeNumbers kernel_back(const Vector* u) {  // G'
    const Vector near_sum = u[1] + u[2];
    const Vector near_difference = u[1] - u[2];
    const Vector far_sum = u[3] + u[4];
    const Vector far_difference = u[3] - u[4];
    return {{0.25F * u[0] - (1.0F / 6.0F) * near_sum + (1.0F / 24.0F) * far_sum,
             (1.0F / 12.0F) * far_difference - (1.0F / 6.0F) * near_difference,
             (1.0F / 6.0F) * (far_sum - near_sum) + u[5]}};
}

// A tile of so many rows and columns from `from`, zero outside of the image; corners may lie outside.
struct ImageWindow {
    const float* image;
    std::int64_t height;
    std::int64_t width;
    std::int64_t channels;
};

// Where a tile begins and how far apart its rows are: in the image, or in `copy` when it reaches beyond.
struct TileSource {
    const float* first;
    std::int64_t row_stride;
};
inline TileSource find_tile(const ImageWindow& w, std::int64_t size, std::int64_t top, std::int64_t left,
                            float* copy) {
    if (top >= 0 && left >= 0 && top + size <= w.height && left + size <= w.width)
        return {w.image + (top * w.width + left) * w.channels, w.width * w.channels};
    const std::int64_t begin = std::clamp<std::int64_t>(-left, 0, size);
    const std::int64_t end = std::clamp<std::int64_t>(w.width - left, begin, size);
    for (std::int64_t y = 0; y < size; ++y) {
        float* row = copy + y * size * w.channels;
        if (top + y < 0 || top + y >= w.height) {
            std::fill_n(row, size * w.channels, 0.0F);
            continue;
        }
        std::fill_n(row, begin * w.channels, 0.0F);
        std::copy_n(w.image + ((top + y) * w.width + left + begin) * w.channels, (end - begin) * w.channels,
                    row + begin * w.channels);
        std::fill_n(row + end * w.channels, (size - end) * w.channels, 0.0F);
    }
    return {copy, size * w.channels};
}

// to[place * stride + c] for all channels of a tile of size x size numbers.
template <int size, SixNumbers (*transform)(const Vector*)>
void transform_tile(const TileSource& tile, std::int64_t channels, std::int64_t stride, float* to) {
    for (std::int64_t c = 0; c < channels; c += lanes) {
        Vector half[6 * size];
        for (int x = 0; x < size; ++x) {
            Vector column[size];
            for (int y = 0; y < size; ++y)
                column[y] = load(tile.first + y * tile.row_stride + x * channels + c);
            const SixNumbers six = transform(column);
            for (int i = 0; i < 6; ++i) half[i * size + x] = six.v[i];
        }
        for (int i = 0; i < 6; ++i) {
            const SixNumbers six = transform(half + i * size);
            for (int j = 0; j < 6; ++j) store(six.v[j], to + (i * 6 + j) * stride + c);
        }
    }
}

constexpr std::uint64_t at_begin[] = {0};
constexpr std::int64_t widest_block = 64;

}  // namespace jevrin::inline v1::winograd
