#include "jevrin/tensor/winograd.hpp"

#include "jevrin/base/threads.hpp"
#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/scratch.hpp"
#include "jevrin/tensor/transposition.hpp"

#include <algorithm>
#include <cassert>
#include <cstring>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t lanes = 16;
typedef float Vector __attribute__((vector_size(lanes * sizeof(float))));

constexpr std::int64_t places = 36;
constexpr std::int64_t wanted_tiles = 32;            // of a band, whose V and M stay in a cache of 1 MB
constexpr std::int64_t fewest_uses = 4;              // of all U, so that they are kept for a whole call
constexpr std::int64_t most_kept_floats = 4 << 20;   // of U
constexpr std::int64_t portion_floats = 768 * 1024;  // V and Z of a portion, in a shared cache
constexpr std::int64_t fewest_portion_tiles = 32;
constexpr std::int64_t joined_tiles = 64;  // of several images in a portion: a batch may have no more
constexpr std::int64_t widest_block = 64;
constexpr std::int64_t deepest_piece = 64;
constexpr std::int64_t fewest_channels = 32;
constexpr std::int64_t smallest_map = 7;
constexpr std::int64_t fewest_blocks = 4;  // of a weight gradient, for threads
// Places a multiple of 4 KB apart would share the same few lines of the first cache.
constexpr std::int64_t place_margin = lanes;

const std::uint64_t at_begin[] = {0};

Vector load(const float* from) {
    Vector v;
    std::memcpy(&v, from, sizeof(v));
    return v;
}
void store(const Vector& v, float* to) {
    std::memcpy(to, &v, sizeof(v));
}

// The one-dimensional transforms.
struct SixNumbers {
    Vector v[6];
};

SixNumbers source_transform(const Vector* d) {  // B'
    const Vector even = d[4] - 4.0F * d[2];
    const Vector odd = d[3] - 4.0F * d[1];
    const Vector near_even = d[4] - d[2];
    const Vector near_odd = 2.0F * (d[3] - d[1]);
    return {{4.0F * d[0] - 5.0F * d[2] + d[4], even + odd, even - odd, near_even + near_odd,
             near_even - near_odd, 4.0F * d[1] - 5.0F * d[3] + d[5]}};
}

SixNumbers kernel_transform(const Vector* g) {  // G
    const Vector outer = g[0] + g[2];
    const Vector far = (1.0F / 24.0F) * g[0] + (1.0F / 6.0F) * g[2];
    const Vector middle = (1.0F / 12.0F) * g[1];
    return {{0.25F * g[0], (-1.0F / 6.0F) * (outer + g[1]), (-1.0F / 6.0F) * (outer - g[1]), far + middle,
             far - middle, g[2]}};
}

SixNumbers gradient_transform(const Vector* y) {  // A
    const Vector even = y[0] + y[2];
    const Vector odd = y[1] + y[3];
    const Vector far_even = y[0] + 4.0F * y[2];
    const Vector far_odd = 2.0F * y[1] + 8.0F * y[3];
    return {{y[0], even + odd, even - odd, far_even + far_odd, far_even - far_odd, y[3]}};
}

struct FourNumbers {
    Vector v[4];
};
FourNumbers output_transform(const Vector* m) {  // A'
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
ThreeNumbers kernel_back(const Vector* u) {  // G'
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
TileSource find_tile(const ImageWindow& w, std::int64_t size, std::int64_t top, std::int64_t left,
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
template <int size, typename Transform>
void transform_tile(const TileSource& tile, std::int64_t channels, Transform transform, std::int64_t stride,
                    float* to) {
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

}  // namespace

bool winograd_serves(const ConvolutionShape& s) {
    const bool is_plain = s.kernel_height == 3 && s.kernel_width == 3 && s.stride_height == 1 &&
                          s.stride_width == 1 && s.dilation_height == 1 && s.dilation_width == 1 &&
                          s.groups == 1;
    const bool has_margins = std::max({s.pad_top, s.pad_left, s.pad_bottom, s.pad_right}) <= 2;
    const bool fits_vectors = s.in_channels % lanes == 0 && s.out_channels % lanes == 0;
    return is_plain && has_margins && fits_vectors &&
           std::min(s.in_channels, s.out_channels) >= fewest_channels &&
           std::min(s.out_height(), s.out_width()) >= smallest_map;
}

WinogradShape WinogradShape::of(const ConvolutionShape& s) {
    return {.height = s.height,
            .width = s.width,
            .out_height = s.out_height(),
            .out_width = s.out_width(),
            .pad_top = s.pad_top,
            .pad_left = s.pad_left,
            .depth = s.in_channels,
            .columns = s.out_channels};
}

// The gradient of an input pixel sums over the output pixels that saw it, by the kernel turned around.
WinogradShape WinogradShape::of_data_gradient(const ConvolutionShape& s) {
    return {.height = s.out_height(),
            .width = s.out_width(),
            .out_height = s.height,
            .out_width = s.width,
            .pad_top = 2 - s.pad_top,
            .pad_left = 2 - s.pad_left,
            .depth = s.out_channels,
            .columns = s.in_channels};
}

WinogradSum::WinogradSum(const WinogradShape& shape, bool transposed, ProductForm form)
    : shape_(shape), transposed_(transposed) {
    const WinogradShape& s = shape_;
    assert(s.depth % lanes == 0 && s.columns % lanes == 0);
    blocks_ = divide_up(s.columns, widest_block);
    block_width_ = lanes * divide_up(s.columns / lanes, blocks_);
    const bool can_keep = places * s.depth * s.columns <= most_kept_floats;
    const std::int64_t wanted = can_keep ? wanted_tiles : 2 * wanted_tiles;
    piece_depth_ = std::min(s.depth, can_keep ? deepest_piece : deepest_piece / 2);
    rows_per_band_ = std::clamp<std::int64_t>(wanted / s.tile_columns(), 1, s.tile_rows());
    bands_ = divide_up(s.tile_rows(), rows_per_band_);
    rows_per_band_ = divide_up(s.tile_rows(), bands_);
    bands_ = divide_up(s.tile_rows(), rows_per_band_);
    // Where numbers of the portable form depend on how many tiles there are, images are not joined, so that
    // those of one do not depend on the others of its batch.
    if (bands_ == 1 && form == ProductForm::fastest)
        images_per_band_ = std::max<std::int64_t>(1, wanted / s.tiles());
    const std::int64_t most = images_per_band_ * rows_per_band_ * s.tile_columns();
    source_stride_ = most * s.depth + place_margin;
    product_stride_ = most * block_width_ + place_margin;
    kernel_stride_ = piece_depth_ * block_width_ + place_margin;
    const std::int64_t last_rows = s.tile_rows() - (bands_ - 1) * rows_per_band_;
    products_.resize(static_cast<std::size_t>(bands_ > 1 ? 2 : images_per_band_));
    for (std::size_t t = 0; t < products_.size(); ++t)
        for (int b = 0; b < 2; ++b)
            for (int p = 0; p < 2; ++p) {
                const std::int64_t width = block_width_ - (b == 0 ? 0 : lanes);
                const std::int64_t rows = bands_ == 1 ? (static_cast<std::int64_t>(t) + 1) * s.tile_rows()
                                          : t == 0    ? rows_per_band_
                                                      : last_rows;
                if (width == 0) continue;
                ProductShape product{.rows = rows * s.tile_columns(),
                                     .columns = width,
                                     .depth = p == 0 ? piece_depth_ : (s.depth - 1) % piece_depth_ + 1,
                                     .a_stride = s.depth,
                                     .b_stride = width,
                                     .c_stride = width};
                Products& products = products_[t][static_cast<std::size_t>(b)][static_cast<std::size_t>(p)];
                products.replace = SumOfProducts(product, form);
                product.accumulate = true;
                products.accumulate = SumOfProducts(product, form);
            }
}

std::int64_t WinogradSum::band_size() const {
    return places * (source_stride_ + product_stride_ + kernel_stride_) +
           std::max(places * shape_.depth, 9 * piece_depth_ * block_width_);
}

std::int64_t WinogradSum::scratch_size() const {
    return std::max(band_size(), kernels_size() <= most_kept_floats ? kernels_size() : 0);
}

std::int64_t WinogradSum::pieces() const {
    return divide_up(shape_.depth, piece_depth_);
}

std::int64_t WinogradSum::units(std::int64_t batch) const {
    return bands_ > 1 ? batch * bands_ : divide_up(batch, images_per_band_);
}

IndexRange WinogradSum::block_columns_of(std::int64_t block) const {
    const IndexRange vectors = chunk_range(shape_.columns / lanes, blocks_, block);
    return {vectors.begin * lanes, vectors.end * lanes};
}

// V of the tiles of a band: [place][tile][depth].
void WinogradSum::transform_source(const Band& band, const float* source, float* copy, float* v) const {
    const WinogradShape& s = shape_;
    float* to = v;
    for (std::int64_t n = band.first_image; n < band.first_image + band.images; ++n) {
        const ImageWindow image{source + n * s.height * s.width * s.depth, s.height, s.width, s.depth};
        for (std::int64_t y = band.rows.begin; y < band.rows.end; ++y)
            for (std::int64_t x = 0; x < s.tile_columns(); ++x, to += s.depth)
                transform_tile<6>(find_tile(image, 6, 4 * y - s.pad_top, 4 * x - s.pad_left, copy), s.depth,
                                  source_transform, source_stride_, to);
    }
}

// U of a block of columns and a piece of depth: [place][depth][columns].
void WinogradSum::transform_kernel(const float* weight, IndexRange depth, IndexRange columns, float* copy,
                                   float* u) const {
    const WinogradShape& s = shape_;
    const std::int64_t width = columns.end - columns.begin;
    const std::int64_t count = depth.end - depth.begin;
    const float* taps = weight + depth.begin * s.columns + columns.begin;
    std::int64_t tap_stride = s.depth * s.columns;
    std::int64_t row_stride = s.columns;
    if (transposed_) {
        for (std::int64_t tap = 0; tap < 9; ++tap)
            transpose(width, count, weight + (8 - tap) * tap_stride + columns.begin * s.depth + depth.begin,
                      s.depth, copy + tap * count * width, width);
        taps = copy;
        tap_stride = count * width;
        row_stride = width;
    }
    for (std::int64_t d = 0; d < count; ++d)
        for (std::int64_t c = 0; c < width; c += lanes) {
            const float* from = taps + d * row_stride + c;
            Vector half[6 * 3];
            for (int x = 0; x < 3; ++x) {
                Vector column[3];
                for (int y = 0; y < 3; ++y) column[y] = load(from + (y * 3 + x) * tap_stride);
                const SixNumbers six = kernel_transform(column);
                for (int i = 0; i < 6; ++i) half[i * 3 + x] = six.v[i];
            }
            for (int i = 0; i < 6; ++i) {
                const SixNumbers six = kernel_transform(half + i * 3);
                for (int j = 0; j < 6; ++j) store(six.v[j], u + (i * 6 + j) * kernel_stride_ + d * width + c);
            }
        }
}

// The pixels of a tile from its products m, by place.
void WinogradSum::finish_tile(const float* m, std::int64_t y, std::int64_t x, IndexRange columns,
                              const float* bias, const Function& activation, bool accumulate,
                              float* image) const {
    const WinogradShape& s = shape_;
    const std::int64_t width = columns.end - columns.begin;
    const std::int64_t rows = std::min<std::int64_t>(4, s.out_height - y);
    const std::int64_t pixels = std::min<std::int64_t>(4, s.out_width - x);
    float* out = image + (y * s.out_width + x) * s.columns + columns.begin;
    for (std::int64_t c = 0; c < width; c += lanes) {
        Vector half[4 * 6];
        for (int j = 0; j < 6; ++j) {
            Vector column[6];
            for (int i = 0; i < 6; ++i) column[i] = load(m + (i * 6 + j) * product_stride_ + c);
            const FourNumbers four = output_transform(column);
            for (int i = 0; i < 4; ++i) half[i * 6 + j] = four.v[i];
        }
        const Vector added = bias != nullptr ? load(bias + columns.begin + c) : Vector{};
        for (std::int64_t i = 0; i < rows; ++i) {
            const FourNumbers four = output_transform(half + i * 6);
            for (std::int64_t j = 0; j < pixels; ++j) {
                float* to = out + (i * s.out_width + j) * s.columns + c;
                store((accumulate ? load(to) + four.v[j] : four.v[j]) + added, to);
            }
        }
    }
    if (activation.kind != FunctionKind::identity)
        for (std::int64_t i = 0; i < rows; ++i)
            apply_to_rows(activation, pixels, width, s.columns, out + i * s.out_width * s.columns);
}

void WinogradSum::finish_band(const Band& band, const float* m, IndexRange columns, const float* bias,
                              const Function& activation, bool accumulate, float* output) const {
    const WinogradShape& s = shape_;
    const float* from = m;
    for (std::int64_t n = band.first_image; n < band.first_image + band.images; ++n)
        for (std::int64_t y = band.rows.begin; y < band.rows.end; ++y)
            for (std::int64_t x = 0; x < s.tile_columns(); ++x, from += columns.end - columns.begin)
                finish_tile(from, 4 * y, 4 * x, columns, bias, activation, accumulate,
                            output + n * s.out_height * s.out_width * s.columns);
}

// m (+)= V U of all places.
void WinogradSum::multiply(const Band& band, std::int64_t block, std::int64_t piece, const float* v,
                           const float* u, float* m) const {
    const IndexRange columns = block_columns_of(block);
    const bool is_last_band = band.rows.end - band.rows.begin != rows_per_band_;
    const auto tiles = static_cast<std::size_t>(bands_ > 1 ? (is_last_band ? 1 : 0) : band.images - 1);
    const std::size_t narrow = columns.end - columns.begin != block_width_ ? 1 : 0;
    const std::size_t last = (piece + 1) * piece_depth_ > shape_.depth ? 1 : 0;
    const Products& products = products_[tiles][narrow][last];
    const SumOfProducts& product = piece == 0 ? products.replace : products.accumulate;
    for (std::int64_t place = 0; place < places; ++place)
        product(v + place * source_stride_ + piece * piece_depth_, u + place * kernel_stride_,
                m + place * product_stride_, at_begin, at_begin);
}

// U is kept for the call when several bands use it, and made anew for each band when only few do: then it
// would travel to memory and back.
void WinogradSum::operator()(std::int64_t batch, const float* source, const float* weight, const float* bias,
                             const Function& activation, bool accumulate, float* output) const {
    const WinogradShape& s = shape_;
    const std::int64_t bands = units(batch);
    const std::int64_t depths = pieces();
    const bool keeps = bands >= fewest_uses && kernels_size() <= most_kept_floats;
    const auto make_kernel = [&](std::int64_t block, std::int64_t piece, float* copy, float* u) {
        const std::int64_t begin = piece * piece_depth_;
        transform_kernel(weight, {begin, std::min(begin + piece_depth_, s.depth)}, block_columns_of(block),
                         copy, u);
    };
    const Scratch kept(keeps ? kernels_size() : 0);
    const auto kept_kernel = [&](std::int64_t i) { return kept.data() + i * places * kernel_stride_; };
    if (keeps)
        parallel_for(blocks_ * depths, [&](std::int64_t i) {
            const Scratch copy(9 * piece_depth_ * block_width_);
            make_kernel(i / depths, i % depths, copy.data(), kept_kernel(i));
        });
    // A band of its own for each thread, or else some of its columns.
    const std::int64_t parts = std::min<std::int64_t>(blocks_, divide_up(std::int64_t{threads()}, bands));
    parallel_for(bands * parts, [&](std::int64_t task) {
        const std::int64_t unit = task / parts;
        Band band;
        band.first_image = bands_ > 1 ? unit / bands_ : unit * images_per_band_;
        band.images = bands_ > 1 ? 1 : std::min(images_per_band_, batch - band.first_image);
        const std::int64_t row = bands_ > 1 ? unit % bands_ * rows_per_band_ : 0;
        band.rows = {row, std::min(row + rows_per_band_, s.tile_rows())};
        const Scratch scratch(band_size());
        float* v = scratch.data();
        float* m = v + places * source_stride_;
        float* made = m + places * product_stride_;
        float* copy = made + places * kernel_stride_;
        transform_source(band, source, copy, v);
        const IndexRange blocks = chunk_range(blocks_, parts, task % parts);
        for (std::int64_t block = blocks.begin; block < blocks.end; ++block) {
            for (std::int64_t piece = 0; piece < depths; ++piece) {
                if (!keeps) make_kernel(block, piece, copy, made);
                multiply(band, block, piece, v, keeps ? kept_kernel(block * depths + piece) : made, m);
            }
            finish_band(band, m, block_columns_of(block), bias, activation, accumulate, output);
        }
    });
}

WinogradWeightGradient::WinogradWeightGradient(const WinogradShape& shape, ProductForm form) : shape_(shape) {
    const WinogradShape& s = shape_;
    assert(s.depth % lanes == 0 && s.columns % lanes == 0);
    const std::int64_t tiles =
        std::max(fewest_portion_tiles, portion_floats / (places * (s.depth + s.columns)));
    rows_per_portion_ = std::clamp<std::int64_t>(tiles / s.tile_columns(), 1, s.tile_rows());
    row_portions_ = divide_up(s.tile_rows(), rows_per_portion_);
    rows_per_portion_ = divide_up(s.tile_rows(), row_portions_);
    row_portions_ = divide_up(s.tile_rows(), rows_per_portion_);
    if (row_portions_ == 1) images_per_portion_ = divide_up(std::min(tiles, joined_tiles), s.tiles());
    portion_tiles_ = images_per_portion_ * rows_per_portion_ * s.tile_columns();
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
void WinogradWeightGradient::transform_portion(std::int64_t portion, std::int64_t batch, const float* source,
                                               const float* output_gradient, float* v, float* z) const {
    const WinogradShape& s = shape_;
    const std::int64_t first_image =
        row_portions_ > 1 ? portion / row_portions_ : portion * images_per_portion_;
    const std::int64_t first_row = row_portions_ > 1 ? portion % row_portions_ * rows_per_portion_ : 0;
    parallel_for(images_per_portion_ * rows_per_portion_, [&](std::int64_t row) {
        const std::int64_t image = first_image + row / rows_per_portion_;
        const std::int64_t y = first_row + row % rows_per_portion_;
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
            transform_tile<6>(find_tile(from, 6, 4 * y - s.pad_top, 4 * x - s.pad_left, copy.data()), s.depth,
                              source_transform, source_stride_, to_v);
            const ImageWindow gradients{output_gradient + image * s.out_height * s.out_width * s.columns,
                                        s.out_height, s.out_width, s.columns};
            transform_tile<4>(find_tile(gradients, 4, 4 * y, 4 * x, copy.data()), s.columns,
                              gradient_transform, gradient_stride_, to_z);
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
    const std::int64_t portions =
        row_portions_ > 1 ? batch * row_portions_ : divide_up(batch, images_per_portion_);
    const std::int64_t across = divide_up(s.columns, block_columns_);
    for (std::int64_t portion = 0; portion < portions; ++portion) {
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
