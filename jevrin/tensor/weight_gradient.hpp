// The weight gradient of a convolution as sums of small matrix products:
//
//     gradient(tap) [in_channels, out_channels] = sum over pixels of source(tap) * output_gradient
//
// The source pixels are laid out channel by channel, so that each product runs along pixels, across rows and
// images. Blocks of input channels are independent; where they are too few to keep the processor busy, the
// images are cut into chunks as well and the sums of the chunks are added in order. Both depend on the
// problem alone.
#pragma once

#include "jevrin/tensor/convolution_shape.hpp"
#include "jevrin/tensor/products.hpp"

#include <cstdint>
#include <vector>

namespace jevrin {

class WeightGradient {
  public:
    WeightGradient() = default;
    WeightGradient(const ConvolutionShape& shape, ProductForm form);

    // gradient [kernel_height, kernel_width, in_channels / groups, out_channels] (+)= the sum over the batch.
    void operator()(std::int64_t batch, const float* input, const float* output_gradient, bool accumulate,
                    float* gradient) const;

    // The largest lease of scratch that a call takes.
    std::int64_t scratch_size() const;

  private:
    struct ChannelBlock {
        std::int64_t group = 0;
        std::int64_t begin = 0;  // first input channel within the group
        std::int64_t width = 0;
    };
    // The pixels of one step: rows of the output of some images.
    struct Portion {
        std::int64_t first_image = 0;
        std::int64_t images = 1;
        std::int64_t first_row = 0;
        std::int64_t rows = 0;
    };
    struct Products {
        SumOfProducts replace;
        SumOfProducts accumulate;
    };

    std::int64_t portions(std::int64_t batch) const;
    Portion portion(std::int64_t batch, std::int64_t index) const;
    std::int64_t chunks(std::int64_t batch) const;
    void lay_out_channels(const Portion& portion, const ChannelBlock& block, const float* input,
                          float* turned_row, float* channels) const;
    void place_row(const float* turned_row, std::int64_t channel_count, std::int64_t kernel_column,
                   float* to) const;
    void copy_gradient(const Portion& portion, std::int64_t first, std::int64_t width,
                       const float* output_gradient, float* copy) const;
    void add_portion(const Portion& portion, const ChannelBlock& block, const float* input,
                     const float* output_gradient, bool accumulate, float* gradient, float* scratch) const;

    ConvolutionShape shape_;
    std::int64_t group_in_ = 0;
    std::int64_t group_out_ = 0;
    std::vector<ChannelBlock> blocks_;
    std::int64_t column_width_ = 0;
    std::int64_t rows_per_portion_ = 1;
    std::int64_t row_portions_ = 1;  // per image
    std::int64_t images_per_portion_ = 1;
    struct Plane {  // the source rows of one remainder of the vertical stride
        std::int64_t remainder = 0;
        std::int64_t first = 0;
        std::int64_t extra = 0;
        std::int64_t offset = 0;  // in a channel, elements
    };
    std::vector<Plane> planes_;
    std::vector<std::int64_t> row_offsets_;  // in a channel, for each kernel row
    std::int64_t channel_stride_ = 0;        // elements of one channel under one kernel column
    std::int64_t image_stride_ = 0;
    Products products_[2][2][2];  // [last rows or full][last channel block or full][last columns or full]
};

}  // namespace jevrin
