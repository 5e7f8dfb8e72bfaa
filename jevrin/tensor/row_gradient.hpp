// The weight gradient of a product of rows, of a dense layer or of a 1x1 convolution:
//
//     gradient [in, out] = sum over rows of input [row, in] * output_gradient [row, out]
//
// Blocks of it are summed piece by piece of the rows in working memory, slice by slice of the columns, and
// written once. Blocks are independent; where they are too few to keep the processor busy, the rows are cut
// into chunks as well and the sums of the chunks are added in order. Both depend on the problem alone.
#pragma once

#include "jevrin/tensor/products.hpp"

#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

class RowGradient {
  public:
    RowGradient() = default;
    RowGradient(std::int64_t in, std::int64_t out, ProductForm form);

    // gradient is replaced by the sum over the rows.
    void operator()(std::int64_t rows, const float* input, const float* output_gradient,
                    float* gradient) const;

    // The largest lease of scratch that a call takes.
    std::int64_t scratch_size() const;

  private:
    // Of the gradient: begin and width of its rows and columns.
    struct Block {
        std::int64_t row = 0;
        std::int64_t rows = 0;
        std::int64_t column = 0;
        std::int64_t columns = 0;
    };
    std::int64_t block_count() const;
    Block block(std::int64_t index) const;
    std::int64_t most_chunks() const;
    std::int64_t block_scratch() const;
    void slice(const float* output_gradient, std::int64_t rows, std::int64_t columns, float* to) const;
    void sum_block(const Block& block, std::int64_t first, std::int64_t rows, const float* input,
                   const float* output_gradient, float* gradient, float* scratch) const;

    std::int64_t in_ = 0;
    std::int64_t out_ = 0;
    std::int64_t block_rows_ = 0;
    std::int64_t slice_columns_ = 0;  // of one product
    std::int64_t block_columns_ = 0;
    struct Products {
        SumOfProducts replace;
        SumOfProducts accumulate;
    };
    std::vector<std::uint64_t> a_offsets_;     // of the products of a piece
    std::vector<std::uint64_t> b_offsets_[2];  // for full slices, for the last one
    Products products_[2][2];                  // [full rows or the last][full slice or the last]
};

}  // namespace jevrin::inline v1
