// 3x3 convolutions with stride 1 in tiles of 4x4 output pixels, by the minimal filtering of Winograd (F(4x4,
// 3x3) of Lavin & Gray, "Fast Algorithms for Convolutional Neural Networks", 2016): an input tile of 6x6
// pixels and the kernel are transformed to 36 numbers each, so that a tile takes 36 multiplications instead
// of 144.
//
//     V = B' source B,  U = G kernel G',  M(i) = V(i) U(i) for each of 36 places i,  output = A' M A
//
// M(i) is a matrix product [tiles, depth] * [depth, columns]. Numbers differ from those of the direct sum by
// rounding: the transforms multiply by up to 8 and add numbers that cancel. Channels must be multiples of 16.
#pragma once

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/channel_sums.hpp"
#include "jevrin/tensor/convolution_shape.hpp"
#include "jevrin/tensor/pixel_portions.hpp"
#include "jevrin/tensor/pointwise.hpp"
#include "jevrin/tensor/products.hpp"

#include <array>
#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

// Whether such a convolution gains by it: a rule of the shape alone, so that bits depend on nothing else.
bool winograd_serves(const ConvolutionShape& shape);

struct WinogradShape {
    std::int64_t height = 0;  // of the source image
    std::int64_t width = 0;
    std::int64_t out_height = 0;
    std::int64_t out_width = 0;
    std::int64_t pad_top = 0;
    std::int64_t pad_left = 0;
    std::int64_t depth = 0;    // source channels
    std::int64_t columns = 0;  // output channels

    static WinogradShape of(const ConvolutionShape& shape);  // forward and weight gradient
    static WinogradShape of_data_gradient(const ConvolutionShape& shape);

    std::int64_t tile_rows() const { return (out_height + 3) / 4; }
    std::int64_t tile_columns() const { return (out_width + 3) / 4; }
    std::int64_t tiles() const { return tile_rows() * tile_columns(); }  // of one image
};

class WinogradSum {
  public:
    WinogradSum() = default;
    // transposed: the weight is [9, columns, depth], its taps from the last to the first, as a data gradient
    // meets it.
    WinogradSum(const WinogradShape& shape, bool transposed, ProductForm form);

    // output [batch, out_height, out_width, columns] (+)= the convolution of source [batch, height, width,
    // depth] with weight [9, depth, columns], then bias [columns] (may be null) is added and the activation
    // applied. statistics are those of the output; may be null.
    void operator()(std::int64_t batch, const float* source, const float* weight, const float* bias,
                    const Function& activation, bool accumulate, float* output,
                    WeightForm form = WeightForm::plain, BatchStatistics* statistics = nullptr) const;

    // Floats of all transformed weights, 0 where they are too many to keep.
    std::int64_t laid_out_size() const;
    void lay_out(const float* weight, float* laid_out) const;

    // The largest lease of scratch that a call takes.
    std::int64_t scratch_size() const;

  private:
    // Tiles that are computed together: rows of them in one image, or all those of several images.
    struct Band {
        std::int64_t first_image = 0;
        std::int64_t images = 0;
        IndexRange rows;
    };
    struct Products {
        SumOfProducts replace;
        SumOfProducts accumulate;
    };
    IndexRange block_columns_of(std::int64_t block) const;
    void transform_source(const Band& band, const float* source, float* copy, float* v) const;
    void transform_kernel(const float* weight, IndexRange depth, IndexRange columns, float* copy,
                          float* u) const;
    void make_kernel(const float* weight, std::int64_t block, std::int64_t piece, float* copy,
                     float* u) const;
    void multiply(const Band& band, std::int64_t block, std::int64_t piece, const float* v, const float* u,
                  float* m) const;
    void finish_tile(const float* m, std::int64_t y, std::int64_t x, IndexRange columns, const float* bias,
                     const Function& activation, bool accumulate, float* image) const;
    void finish_band(const Band& band, const float* m, IndexRange columns, const float* bias,
                     const Function& activation, bool accumulate, float* output) const;
    void add_band(const Band& band, IndexRange columns, const float* output, ChannelSums& sums) const;
    std::int64_t units(std::int64_t batch) const;
    std::int64_t pieces() const;
    std::int64_t band_size() const;
    std::int64_t kernels_size() const { return blocks_ * pieces() * 36 * kernel_stride_; }

    WinogradShape shape_;
    bool transposed_ = false;
    std::int64_t block_width_ = 0;  // of columns, the widest; some blocks are 16 narrower
    std::int64_t blocks_ = 0;
    std::int64_t piece_depth_ = 0;
    std::int64_t rows_per_band_ = 0;
    std::int64_t bands_ = 0;
    std::int64_t images_per_band_ = 1;
    std::int64_t source_stride_ = 0;   // elements between the 36 places of V in a band,
    std::int64_t product_stride_ = 0;  // of M
    std::int64_t kernel_stride_ = 0;   // and of U in a block and piece
    // By tiles (full bands, then the last one; or by images, from one on), block (wide or narrow) and piece
    // (full or last).
    std::vector<std::array<std::array<Products, 2>, 2>> products_;
};

// The weight gradient [9, depth, columns] of the same: V as above, Z = A gradient A', the sum over all tiles
// of V(i)' Z(i), and G' of it G.
class WinogradWeightGradient {
  public:
    WinogradWeightGradient() = default;
    WinogradWeightGradient(const WinogradShape& shape, ProductForm form);

    void operator()(std::int64_t batch, const float* source, const float* output_gradient,
                    float* gradient) const;

    std::int64_t scratch_size() const;

  private:
    std::int64_t block_count() const;
    void transform_portion(std::int64_t index, std::int64_t batch, const float* source,
                           const float* output_gradient, float* v, float* z) const;
    void add_block(const float* sums, IndexRange rows, IndexRange columns, bool accumulate,
                   float* gradient) const;

    WinogradShape shape_;
    PixelPortions portions_;  // of tiles
    std::int64_t portion_tiles_ = 0;
    std::int64_t source_stride_ = 0;
    std::int64_t gradient_stride_ = 0;
    std::int64_t block_rows_ = 0;     // of depth, in one task
    std::int64_t block_columns_ = 0;  // of columns
    SumOfProducts products_[2][2];    // [last rows or full][last columns or full]
};

}  // namespace jevrin::inline v1
