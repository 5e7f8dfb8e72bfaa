// The weight gradient of a convolution, the counterpart of TapSum:
//
//     gradient(tap) [in_channels, out_channels] = sum over pixels of source(tap) transposed * output_gradient
//
// The source rows of some output rows are copied with their margins (or used in place where there are none);
// each product runs along the pixels of one row, and one sum of products over the rows and images of a
// portion. Where channels are few, the pixels
// under a row of the kernel count as one pixel of more channels, as in TapSum.
//
// Blocks of input and output channels are independent; where they are too few to keep the processor busy, the
// portions are cut into chunks as well and the sums of the chunks are added in order. Both depend on the
// problem alone.
#pragma once

#include "jevrin/tensor/convolution_shape.hpp"
#include "jevrin/tensor/pixel_portions.hpp"
#include "jevrin/tensor/products.hpp"

#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

class TapGradient {
  public:
    TapGradient() = default;
    TapGradient(const ConvolutionShape& shape, ProductForm form);

    // True where this takes less time than WeightGradient.
    static bool serves(const ConvolutionShape& shape);

    // gradient [kernel_height, kernel_width, in_channels / groups, out_channels] is replaced by the sum over
    // the batch.
    void operator()(std::int64_t batch, const float* input, const float* output_gradient,
                    float* gradient) const;

    // The largest lease of scratch that a call takes.
    std::int64_t scratch_size() const;

  private:
    struct Block {  // of the channels of one group
        std::int64_t group = 0;
        std::int64_t row = 0;  // first input channel within the group
        std::int64_t rows = 0;
        std::int64_t column = 0;  // first output channel within the group
        std::int64_t columns = 0;
    };
    struct Products {
        SumOfProducts replace;
        SumOfProducts accumulate;
    };
    // A row is cut into parts, every so many pixels of it, whose windows do not overlap. Some parts have one
    // pixel more than the others.
    struct Parts {
        std::size_t count = 0;
        std::vector<std::uint64_t> a_offsets;     // by image, row and part
        std::vector<std::uint64_t> b_offsets[2];  // for full slices, for the last one
        Products products[2][2];                  // [full rows or the last][full slice or the last]
    };

    void make_parts(std::int64_t all, std::int64_t first, std::int64_t last, ProductForm form);
    Block block(std::int64_t index) const;
    std::int64_t block_count() const;
    std::int64_t most_chunks() const;
    std::int64_t source_rows(std::int64_t rows) const;
    std::int64_t portion_scratch() const;
    void copy_source(const PixelPortion& portion, const Block& block, const float* input, float* copy) const;
    void add_portion(const PixelPortion& portion, const Block& block, const float* input,
                     const float* output_gradient, bool accumulate, float* gradient, float* scratch) const;

    void add_products(const PixelPortion& portion, const Block& block, std::int64_t column,
                      const float* source, const float* slice, bool accumulate, float* gradient) const;

    ConvolutionShape shape_;
    std::int64_t group_in_ = 0;
    std::int64_t group_out_ = 0;
    std::int64_t block_rows_ = 0;
    std::int64_t slice_columns_ = 0;  // of one product
    std::int64_t block_columns_ = 0;
    bool windows_ = false;
    bool copies_source_ = false;     // else it is read in place
    std::int64_t source_width_ = 0;  // pixels of a source row, copied or in place
    std::int64_t pixel_stride_ = 0;  // elements
    std::int64_t image_stride_ = 0;
    PixelPortions portions_;
    std::vector<Parts> parts_;
};

}  // namespace jevrin::inline v1
