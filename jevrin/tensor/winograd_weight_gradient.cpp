#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/scratch.hpp"
#include "jevrin/tensor/winograd.hpp"
#include "jevrin/tensor/winograd_tiles.hpp"

#include <algorithm>
#include <cassert>

namespace jevrin::inline v1 {

using namespace winograd;

namespace {

constexpr std::int64_t portion_floats = 768 * 1024;  // V and Z of a portion, in a shared cache
constexpr std::int64_t fewest_portion_tiles = 32;
constexpr std::int64_t joined_tiles = 64;  // of several images in a portion: a batch may have no more
constexpr std::int64_t fewest_blocks = 4;  // of a weight gradient, for threads

}  // namespace

WinogradWeightGradient::WinogradWeightGradient(const WinogradShape& shape, ProductForm form) : shape_(shape) {
    const WinogradShape& s = shape_;
    assert(s.depth % lanes == 0 && s.columns % lanes == 0);
    const std::int64_t tiles =
        std::max(fewest_portion_tiles, portion_floats / (places * (s.depth + s.columns)));
    portions_ = PixelPortions(s.tile_rows(), tiles / s.tile_columns(),
                              divide_up(std::min(tiles, joined_tiles), s.tiles()));
    portion_tiles_ = portions_.images() * portions_.rows() * s.tile_columns();
    source_stride_ = portion_tiles_ * s.depth + place_margin;
    gradient_stride_ = portion_tiles_ * s.columns + place_margin;
    block_rows_ = std::min(s.depth, widest_block);
    block_columns_ = std::min(s.columns, widest_block);
    if (block_count() < fewest_blocks) block_columns_ = std::min(s.columns, widest_block / 2);
    if (block_count() < fewest_blocks) block_rows_ = std::min(s.depth, widest_block / 2);
    for (int r = 0; r < 2; ++r)
        for (int c = 0; c < 2; ++c) {
            const std::int64_t columns = c == 0 ? block_columns_ : (s.columns - 1) % block_columns_ + 1;
            products_[r][c] = SumOfProducts({.rows = r == 0 ? block_rows_ : (s.depth - 1) % block_rows_ + 1,
                                             .columns = columns,
                                             .depth = portion_tiles_,
                                             .a_stride = s.depth,
                                             .b_stride = s.columns,
                                             .c_stride = columns,
                                             .a_transposed = true},
                                            form);
        }
}

std::int64_t WinogradWeightGradient::block_count() const {
    return divide_up(shape_.depth, block_rows_) * divide_up(shape_.columns, block_columns_);
}

std::int64_t WinogradWeightGradient::scratch_size() const {
    return places * (source_stride_ + gradient_stride_);
}

// V and Z of so many rows of tiles; zero beyond the batch and the image.
void WinogradWeightGradient::transform_portion(std::int64_t index, std::int64_t batch, const float* source,
                                               const float* output_gradient, float* v, float* z) const {
    const WinogradShape& s = shape_;
    const PixelPortion portion = portions_.at(batch, index);
    parallel_for(portions_.images() * portions_.rows(), [&](std::int64_t row) {
        const std::int64_t image = portion.first_image + row / portions_.rows();
        const std::int64_t y = portion.first_row + row % portions_.rows();
        const bool is_inside = image < batch && y < s.tile_rows();
        const Scratch copy(places * std::max(s.depth, s.columns));
        for (std::int64_t x = 0; x < s.tile_columns(); ++x) {
            float* to_v = v + (row * s.tile_columns() + x) * s.depth;
            float* to_z = z + (row * s.tile_columns() + x) * s.columns;
            for (std::int64_t place = 0; place < places && !is_inside; ++place) {
                std::fill_n(to_v + place * source_stride_, s.depth, 0.0F);
                std::fill_n(to_z + place * gradient_stride_, s.columns, 0.0F);
            }
            if (!is_inside) continue;
            const ImageWindow from{source + image * s.height * s.width * s.depth, s.height, s.width, s.depth};
            transform_tile<6, source_transform>(
                find_tile(from, 6, 4 * y - s.pad_top, 4 * x - s.pad_left, copy.data()), s.depth,
                source_stride_, to_v);
            const ImageWindow gradients{output_gradient + image * s.out_height * s.out_width * s.columns,
                                        s.out_height, s.out_width, s.columns};
            transform_tile<4, gradient_transform>(find_tile(gradients, 4, 4 * y, 4 * x, copy.data()),
                                                  s.columns, gradient_stride_, to_z);
        }
    });
}

// gradient (+)= G' sums G for a block of depth and columns.
void WinogradWeightGradient::add_block(const float* sums, IndexRange rows, IndexRange columns,
                                       bool accumulate, float* gradient) const {
    const WinogradShape& s = shape_;
    const std::int64_t width = columns.end - columns.begin;
    const std::int64_t stride = block_rows_ * block_columns_ + place_margin;
    for (std::int64_t d = rows.begin; d < rows.end; ++d)
        for (std::int64_t c = 0; c < width; c += lanes) {
            const float* from = sums + (d - rows.begin) * width + c;
            Vector half[3 * 6];
            for (int j = 0; j < 6; ++j) {
                Vector column[6];
                for (int i = 0; i < 6; ++i) column[i] = load(from + (i * 6 + j) * stride);
                const ThreeNumbers three = kernel_back(column);
                for (int i = 0; i < 3; ++i) half[i * 6 + j] = three.v[i];
            }
            for (int i = 0; i < 3; ++i) {
                const ThreeNumbers three = kernel_back(half + i * 6);
                for (int j = 0; j < 3; ++j) {
                    float* to = gradient + ((i * 3 + j) * s.depth + d) * s.columns + columns.begin + c;
                    store(accumulate ? load(to) + three.v[j] : three.v[j], to);
                }
            }
        }
}

void WinogradWeightGradient::operator()(std::int64_t batch, const float* source, const float* output_gradient,
                                        float* gradient) const {
    const WinogradShape& s = shape_;
    const Scratch scratch(scratch_size());
    float* v = scratch.data();
    float* z = v + places * source_stride_;
    const std::int64_t across = divide_up(s.columns, block_columns_);
    for (std::int64_t portion = 0; portion < portions_.count(batch); ++portion) {
        transform_portion(portion, batch, source, output_gradient, v, z);
        parallel_for(block_count(), [&](std::int64_t block) {
            const IndexRange rows{block / across * block_rows_,
                                  std::min((block / across + 1) * block_rows_, s.depth)};
            const IndexRange columns{block % across * block_columns_,
                                     std::min((block % across + 1) * block_columns_, s.columns)};
            const std::int64_t stride = block_rows_ * block_columns_ + place_margin;
            const Scratch sums(places * stride);
            const SumOfProducts& product = products_[rows.end - rows.begin != block_rows_]
                                                    [columns.end - columns.begin != block_columns_];
            for (std::int64_t place = 0; place < places; ++place)
                product(v + place * source_stride_ + rows.begin, z + place * gradient_stride_ + columns.begin,
                        sums.data() + place * stride, at_begin, at_begin);
            add_block(sums.data(), rows, columns, portion > 0, gradient);
        });
    }
}

}  // namespace jevrin::inline v1
