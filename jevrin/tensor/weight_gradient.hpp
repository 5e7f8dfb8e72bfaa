// The weight gradient of a convolution of many channels as sums of small matrix products:
//
//     gradient(tap) [in_channels, out_channels] = sum over pixels of source(tap) * output_gradient
//
// The source pixels are laid out channel by channel, so that each product runs along pixels, across rows and
// images. Blocks of input channels are independent; where they are too few to keep the processor busy, the
// images are cut into chunks as well and the sums of the chunks are added in order. Both depend on the
// problem alone.
#pragma once

#include "jevrin/tensor/convolution_shape.hpp"
#include "jevrin/tensor/pixel_portions.hpp"
#include "jevrin/tensor/products.hpp"

#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

class WeightGradient {
  public:
    WeightGradient() = default;
    WeightGradient(const ConvolutionShape& shape, ProductForm form);

    // gradient [kernel_height, kernel_width, in_channels / groups, out_channels] is replaced by the sum over
    // the batch.
    void operator()(std::int64_t batch, const float* input, const float* output_gradient,
                    float* gradient) const;

    // The largest lease of scratch that a call takes.
    std::int64_t scratch_size() const;

  private:
    struct ChannelBlock {
        std::int64_t group = 0;
        std::int64_t begin = 0;  // first input channel within the group
        std::int64_t width = 0;
    };
    struct Plane {  // the source rows of one remainder of the vertical stride
        std::int64_t remainder = 0;
        std::int64_t first = 0;
        std::int64_t extra = 0;
        std::int64_t offset = 0;  // in a channel, elements
    };
    struct Products {
        SumOfProducts replace;
        SumOfProducts accumulate;
    };

    std::int64_t most_chunks() const;
    std::int64_t chunks(std::int64_t batch) const;
    std::int64_t portion_scratch() const;
    void turn_rows(const PixelPortion& portion, const Plane& plane, const float* image, std::int64_t channels,
                   std::int64_t row_length, std::int64_t stride, float* to) const;
    void pick_rows(const float* turned, std::int64_t rows, std::int64_t shift, float* to) const;
    static void shift_rows(const float* turned, std::int64_t count, const std::uint32_t* kept,
                           std::int64_t shift, float* to);
    void prepare_columns();
    void lay_out_rows(const PixelPortion& portion, const ChannelBlock& block, const float* image,
                      float* channels) const;
    void lay_out_columns(const PixelPortion& portion, const ChannelBlock& block, const float* image,
                         float* turned, float* channels) const;
    void add_portion(const PixelPortion& portion, const ChannelBlock& block, const float* input,
                     const float* output_gradient, bool accumulate, float* gradient, float* scratch) const;

    ConvolutionShape shape_;
    std::int64_t group_in_ = 0;
    std::int64_t group_out_ = 0;
    std::vector<ChannelBlock> blocks_;
    std::int64_t column_width_ = 0;
    PixelPortions portions_;
    bool wide_ = false;  // products run along single padded rows, else across rows for each kernel column
    std::int64_t row_length_ = 0;  // elements of a laid-out row
    std::vector<Plane> planes_;
    std::vector<std::int64_t> row_offsets_;  // in a channel, for each kernel row
    std::int64_t channel_stride_ = 0;        // elements of one channel under one kernel column
    std::int64_t image_stride_ = 0;
    std::int64_t left_margin_ = 0;  // wide: elements before the first pixel of a row
    std::int64_t longest_plane_ = 0;
    // Narrow: the rows of the source before they are picked or shifted, with room for shifts at both ends.
    std::int64_t turned_size_ = 0;
    std::int64_t turn_margin_ = 0;
    bool shifts_ = false;
    std::vector<std::uint32_t> kept_;  // [kernel column][plane]: 0 where a shift leaves the row
    // Of the runs of a whole portion, by image and row; for full columns, for the last ones.
    std::vector<std::uint64_t> a_offsets_;
    std::vector<std::uint64_t> b_offsets_[2];
    Products products_[2][2][2];  // [last rows or full][last channel block or full][last columns or full]
};

}  // namespace jevrin::inline v1
