#include "jevrin/tensor/winograd.hpp"

#include "jevrin/base/threads.hpp"
#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/scratch.hpp"
#include "jevrin/tensor/transposition.hpp"
#include "jevrin/tensor/winograd_tiles.hpp"

#include <algorithm>
#include <cassert>
#include <optional>

namespace jevrin::inline v1 {

using namespace winograd;

namespace {

constexpr std::int64_t wanted_tiles = 32;           // of a band, whose V and M stay in a cache of 1 MB
constexpr std::int64_t fewest_uses = 4;             // of all U, so that they are kept for a whole call
constexpr std::int64_t most_kept_floats = 4 << 20;  // of U
constexpr std::int64_t deepest_piece = 64;
constexpr std::int64_t fewest_channels = 32;
constexpr std::int64_t smallest_map = 7;

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
    const int widths = s.columns / lanes % blocks_ == 0 ? 1 : 2;
    const int depths = s.depth % piece_depth_ == 0 ? 1 : 2;
    for (std::size_t t = 0; t < products_.size(); ++t)
        for (int b = 0; b < widths; ++b)
            for (int p = 0; p < depths; ++p) {
                const std::int64_t width = block_width_ - (b == 0 ? 0 : lanes);
                const std::int64_t rows = bands_ == 1 ? (static_cast<std::int64_t>(t) + 1) * s.tile_rows()
                                          : t == 0    ? rows_per_band_
                                                      : last_rows;
                ProductShape product{.rows = rows * s.tile_columns(),
                                     .columns = width,
                                     .depth = p == 0 ? piece_depth_ : s.depth % piece_depth_,
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
    return std::max(band_size(), laid_out_size());
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
                transform_tile<6, source_transform>(
                    find_tile(image, 6, 4 * y - s.pad_top, 4 * x - s.pad_left, copy), s.depth, source_stride_,
                    to);
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
            apply_to_rows(activation, nullptr, pixels, width, s.columns, out + i * s.out_width * s.columns);
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

void WinogradSum::add_band(const Band& band, IndexRange columns, const float* output,
                           ChannelSums& sums) const {
    const WinogradShape& s = shape_;
    const std::int64_t begin = 4 * band.rows.begin;
    const std::int64_t end = std::min(4 * band.rows.end, s.out_height);
    for (std::int64_t n = band.first_image; n < band.first_image + band.images; ++n) {
        const std::int64_t first = n * s.out_height;
        sums.add(n * bands_ + band.rows.begin / rows_per_band_,
                 {(first + begin) * s.out_width, (first + end) * s.out_width}, columns, output);
    }
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

void WinogradSum::make_kernel(const float* weight, std::int64_t block, std::int64_t piece, float* copy,
                              float* u) const {
    const std::int64_t begin = piece * piece_depth_;
    transform_kernel(weight, {begin, std::min(begin + piece_depth_, shape_.depth)}, block_columns_of(block),
                     copy, u);
}

std::int64_t WinogradSum::laid_out_size() const {
    return kernels_size() <= most_kept_floats ? kernels_size() : 0;
}

void WinogradSum::lay_out(const float* weight, float* laid_out) const {
    const std::int64_t depths = pieces();
    parallel_for(blocks_ * depths, [&](std::int64_t i) {
        const Scratch copy(9 * piece_depth_ * block_width_);
        make_kernel(weight, i / depths, i % depths, copy.data(), laid_out + i * places * kernel_stride_);
    });
}

// U is kept for the call when several bands use it, and made anew for each band when only few do: then it
// would travel to memory and back.
void WinogradSum::operator()(std::int64_t batch, const float* source, const float* weight, const float* bias,
                             const Function& activation, bool accumulate, float* output, WeightForm form,
                             BatchStatistics* statistics) const {
    const WinogradShape& s = shape_;
    const std::int64_t bands = units(batch);
    const std::int64_t depths = pieces();
    const bool lays_out = form == WeightForm::plain && bands >= fewest_uses && laid_out_size() > 0;
    const bool keeps = lays_out || form == WeightForm::laid_out;
    const Scratch kept(lays_out ? kernels_size() : 0);
    if (lays_out) lay_out(weight, kept.data());
    const float* kernels = lays_out ? kept.data() : weight;
    std::optional<ChannelSums> sums;
    if (statistics != nullptr) sums.emplace(batch * bands_, s.columns);
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
                if (!keeps) make_kernel(weight, block, piece, copy, made);
                const float* u = keeps ? kernels + (block * depths + piece) * places * kernel_stride_ : made;
                multiply(band, block, piece, v, u, m);
            }
            finish_band(band, m, block_columns_of(block), bias, activation, accumulate, output);
            if (sums) add_band(band, block_columns_of(block), output, *sums);
        }
    });
    if (sums) sums->finish(*statistics);
}

}  // namespace jevrin::inline v1
