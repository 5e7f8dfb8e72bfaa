// The engine under convolutions, forward and backwards: each output pixel is a sum over taps, a tap being a
// shifted source pixel times a matrix.
//
//     output(y, x) [columns] (+)= sum over i, j of
//         source(y * row_step + row_offsets[i], x * column_step + column_offsets[j]) [depth] * matrix(i, j)
//
// for each group of channels by itself; source pixels outside the image are zero. All matrices are given in
// packed form, in blocks of output columns: [block][i][j][depth][block width].
//
// An image is cut into bands of rows. The source rows of a band are copied with their margins into scratch
// that stays in the cache (or used in place where nothing has to be added), then each run of output pixels is
// one sum of small matrix products. Narrow images are laid out so that a run crosses rows: the pixels of the
// columns j stand side by side, which makes every tap row one unbroken run. The result for one image does not
// depend on the batch it is in.
#pragma once

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/channel_sums.hpp"
#include "jevrin/tensor/pointwise.hpp"
#include "jevrin/tensor/products.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

struct TapSumShape {
    std::int64_t height = 0;  // of the source image
    std::int64_t width = 0;
    std::int64_t groups = 1;
    std::int64_t depth = 0;    // source channels of one group
    std::int64_t columns = 0;  // output channels of one group
    std::int64_t out_height = 0;
    std::int64_t out_width = 0;
    std::int64_t pixel_stride = 0;  // elements between output pixels, rows and images
    std::int64_t row_stride = 0;
    std::int64_t image_stride = 0;
    std::int64_t row_step = 1;
    std::int64_t column_step = 1;
    std::vector<std::int64_t> row_offsets;
    std::vector<std::int64_t> column_offsets;
};

// output [pixels, out] (+)= source [pixels, in] * a matrix: an image of one row.
TapSumShape line_of_pixels(std::int64_t pixels, std::int64_t in, std::int64_t out);

class TapSum {
  public:
    struct ColumnBlock {
        std::int64_t group = 0;
        std::int64_t begin = 0;  // first column within the group
        std::int64_t width = 0;
        std::int64_t offset = 0;  // of its matrices in the packed form
    };

    TapSum() = default;
    TapSum(const TapSumShape& shape, ProductForm form);

    const TapSumShape& shape() const { return shape_; }
    const std::vector<ColumnBlock>& blocks() const { return blocks_; }
    std::int64_t packed_size() const;

    // output (+)= the sums, then bias [groups * columns] (may be null) is added and the activation applied.
    // statistics are those of the output, where pixels and rows lie without gaps; may be null.
    void operator()(std::int64_t batch, const float* source, const float* packed, const float* bias,
                    const Function& activation, bool accumulate, float* output,
                    BatchStatistics* statistics = nullptr) const;

    // One image, on the calling thread.
    void of_one_image(const float* source, const float* packed, const float* bias, const Function& activation,
                      float* output) const;

    // The largest lease of scratch that a call takes.
    std::int64_t scratch_size() const { return buffer_size_ * images_per_task_; }

  private:
    enum class Layout { in_place, padded, side_by_side };
    struct Products {
        SumOfProducts replace;
        SumOfProducts accumulate;
    };

    std::int64_t tap_count() const;
    IndexRange band_rows(std::int64_t band) const;
    void choose_layout();
    void lay_out_padded();
    void lay_out_side_by_side();
    void make_products(ProductForm form);
    void copy_padded(const float* image, IndexRange rows, float* buffer) const;
    void copy_side_by_side(const float* image, IndexRange rows, float* buffer) const;
    std::int64_t part_width(std::int64_t part) const;  // pixels
    // What a call computes; the pointers are those of the first image.
    struct Call {
        const float* source = nullptr;
        const float* packed = nullptr;
        const float* bias = nullptr;
        const Function& activation;
        bool accumulate = false;
        float* output = nullptr;
        ChannelSums* sums = nullptr;  // of the output; may be null
    };
    void compute(const Call& call, IndexRange images, IndexRange rows, IndexRange blocks) const;
    void compute_band(const float* a, IndexRange rows, const ColumnBlock& block, const float* packed,
                      bool accumulate, float* output) const;

    TapSumShape shape_;
    std::vector<ColumnBlock> blocks_;
    std::int64_t block_width_ = 0;
    Layout layout_ = Layout::in_place;
    bool merged_ = false;  // a run crosses rows: one run per band
    // Padded: the pixels of the columns j, which lie one after the other, count as one of greater depth.
    // These windows overlap; a run is cut into parts, every so many pixels of it, whose windows do not.
    bool windows_ = false;
    std::int64_t parts_ = 1;
    std::int64_t rows_per_band_ = 1;
    std::int64_t bands_ = 1;
    std::int64_t images_per_task_ = 1;
    // The buffer of a band.
    std::int64_t first_row_ = 0;     // smallest row offset
    std::int64_t first_column_ = 0;  // smallest column offset
    std::int64_t buffer_width_ = 0;  // pixels of a padded row
    std::int64_t buffer_size_ = 0;   // floats for one image; 0 in place
    struct Plane {                   // side by side: the source rows of one remainder of row_step
        std::int64_t remainder = 0;
        std::int64_t first = 0;   // first row, counted in steps
        std::int64_t extra = 0;   // rows beyond those of the output
        std::int64_t offset = 0;  // in the buffer
    };
    std::vector<Plane> planes_;
    std::int64_t a_row_stride_ = 0;  // elements between the sources of neighbouring output rows
    std::int64_t product_depth_ = 0;
    std::vector<std::uint64_t> a_offsets_;
    std::vector<std::uint64_t> b_offsets_[2];  // for blocks of full width, for the last block
    Products products_[2][2];  // [last band or shorter parts, or full][last block or full width]
};

// The packed form of a weight [taps, depth, row_length], where output columns are a row's columns: the weight
// itself when it is in that form already, otherwise a copy in packed [packed_size()].
const float* pack_weight(const TapSum& sum, const float* weight, std::int64_t row_length, float* packed);

// The packed form of the transposed matrices of a weight [taps, columns, row_length], where depth runs along
// a row; taps are the weight's taps in the order of the sum.
void pack_transposed_weight(const TapSum& sum, const float* weight, std::int64_t row_length,
                            std::span<const std::int64_t> taps, float* packed);

}  // namespace jevrin::inline v1
