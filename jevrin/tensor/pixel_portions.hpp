// The output pixels of a batch (or tiles of them) in portions that are summed at a time: some rows of one
// image or, where an image has few, all rows of some images.
#pragma once

#include "jevrin/tensor/convolution_shape.hpp"
#include "jevrin/tensor/integer_division.hpp"

#include <algorithm>
#include <cstdint>

namespace jevrin::inline v1 {

struct PixelPortion {
    std::int64_t first_image = 0;
    std::int64_t images = 1;
    std::int64_t first_row = 0;
    std::int64_t rows = 0;
};

class PixelPortions {
  public:
    PixelPortions() = default;
    // Of images with so many rows: about most_rows of one, or at most most_images.
    PixelPortions(std::int64_t height, std::int64_t most_rows, std::int64_t most_images)
        : height_(height), rows_(std::clamp<std::int64_t>(most_rows, 1, height)) {
        rows_ = divide_up(height, divide_up(height, rows_));
        if (rows_ == height) images_ = std::max<std::int64_t>(most_images, 1);
    }

    // Of a full portion.
    std::int64_t rows() const { return rows_; }
    std::int64_t images() const { return images_; }
    // Of the last portion of an image.
    std::int64_t last_rows() const { return height_ - (per_image() - 1) * rows_; }

    std::int64_t count(std::int64_t batch) const {
        return per_image() > 1 ? batch * per_image() : divide_up(batch, images_);
    }
    PixelPortion at(std::int64_t batch, std::int64_t index) const {
        if (per_image() == 1) {
            const std::int64_t first = index * images_;
            return {first, std::min(images_, batch - first), 0, height_};
        }
        const std::int64_t row = index % per_image() * rows_;
        return {index / per_image(), 1, row, std::min(rows_, height_ - row)};
    }

  private:
    std::int64_t per_image() const { return divide_up(height_, rows_); }

    std::int64_t height_ = 1;
    std::int64_t rows_ = 1;
    std::int64_t images_ = 1;
};

// Some columns of the output gradient of a portion, side by side: [image][pixel][columns].
inline void copy_columns(const ConvolutionShape& shape, const PixelPortion& portion, std::int64_t first,
                         std::int64_t columns, const float* output_gradient, float* copy) {
    const std::int64_t pixels = portion.rows * shape.out_width();
    for (std::int64_t n = 0; n < portion.images; ++n) {
        const std::int64_t row = (portion.first_image + n) * shape.out_height() + portion.first_row;
        const float* from = output_gradient + row * shape.out_width() * shape.out_channels + first;
        for (std::int64_t p = 0; p < pixels; ++p, copy += columns)
            std::copy_n(from + p * shape.out_channels, columns, copy);
    }
}

}  // namespace jevrin::inline v1
