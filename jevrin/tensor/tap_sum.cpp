#include "jevrin/tensor/tap_sum.hpp"

#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/scratch.hpp"
#include "jevrin/tensor/transposition.hpp"

#include <algorithm>
#include <cassert>
#include <optional>

namespace jevrin::inline v1 {
namespace {

// Rows shorter than this leave registers unused; runs then cross rows.
constexpr std::int64_t narrow = 8;
// Fewer channels than this make short inner loops; the columns of the kernel then lie side by side.
constexpr std::int64_t shallow = 16;
constexpr std::int64_t buffer_floats = 64 * 1024;    // a band's copy, to stay in a cache of 1 MB
constexpr std::int64_t cached_weights = 128 * 1024;  // floats of weights that stay in it as well
constexpr std::int64_t reuse_pixels = 128;           // pixels that use larger weights before others come
constexpr std::int64_t smallest_task = 1 << 20;      // multiplications worth a task of their own
constexpr std::int64_t smallest_copy = 1 << 15;      // floats whose copying is worth one
constexpr std::int64_t fewest_tasks = 4;
constexpr std::int64_t wanted_bands = 4;         // of an image
constexpr std::int64_t fewest_band_pixels = 96;  // in each of them
constexpr std::int64_t widest_single = 64;

std::int64_t smallest(const std::vector<std::int64_t>& values) {
    return *std::min_element(values.begin(), values.end());
}
std::int64_t largest(const std::vector<std::int64_t>& values) {
    return *std::max_element(values.begin(), values.end());
}

}  // namespace

TapSumShape line_of_pixels(std::int64_t pixels, std::int64_t in, std::int64_t out) {
    return {.height = 1,
            .width = pixels,
            .depth = in,
            .columns = out,
            .out_height = 1,
            .out_width = pixels,
            .pixel_stride = out,
            .row_stride = pixels * out,
            .image_stride = pixels * out,
            .row_offsets = {0},
            .column_offsets = {0}};
}

TapSum::TapSum(const TapSumShape& shape, ProductForm form) : shape_(shape) {
    assert(shape.depth > 0 && shape.columns > 0 && shape.out_height > 0 && shape.out_width > 0);
    assert(tap_count() > 0);
    const TapSumShape& s = shape_;
    // A single matrix of so many columns stays in the cache; those of several taps need narrower ones.
    block_width_ = tap_count() == 1 ? std::min(s.columns, widest_single) : block_columns(s.columns);
    std::int64_t offset = 0;
    for (std::int64_t group = 0; group < s.groups; ++group)
        for (std::int64_t begin = 0; begin < s.columns; begin += block_width_) {
            const std::int64_t width = std::min(block_width_, s.columns - begin);
            blocks_.push_back({group, begin, width, offset});
            offset += tap_count() * s.depth * width;
        }
    choose_layout();
    make_products(form);
}

std::int64_t TapSum::tap_count() const {
    return static_cast<std::int64_t>(shape_.row_offsets.size() * shape_.column_offsets.size());
}

std::int64_t TapSum::packed_size() const {
    return tap_count() * shape_.groups * shape_.depth * shape_.columns;
}

IndexRange TapSum::band_rows(std::int64_t band) const {
    return {band * rows_per_band_, std::min((band + 1) * rows_per_band_, shape_.out_height)};
}

void TapSum::choose_layout() {
    const TapSumShape& s = shape_;
    first_row_ = smallest(s.row_offsets);
    first_column_ = smallest(s.column_offsets);
    const bool inside = first_row_ >= 0 && first_column_ >= 0 &&
                        (s.out_height - 1) * s.row_step + largest(s.row_offsets) < s.height &&
                        (s.out_width - 1) * s.column_step + largest(s.column_offsets) < s.width;
    const bool output_merges = s.row_stride == s.out_width * s.pixel_stride;
    const bool source_merges = inside && s.row_step * s.width == s.out_width * s.column_step;
    const auto tap_columns = static_cast<std::int64_t>(s.column_offsets.size());
    buffer_width_ = (s.out_width - 1) * s.column_step + largest(s.column_offsets) - first_column_ + 1;

    std::int64_t row_floats = s.out_width * s.depth;  // source data per output row, to choose the band
    const bool few_channels = s.depth < shallow && tap_columns > 1;
    const bool neighbours = largest(s.column_offsets) - first_column_ + 1 == tap_columns &&
                            std::is_sorted(s.column_offsets.begin(), s.column_offsets.end());
    windows_ = few_channels && neighbours && s.out_width >= narrow;
    if (!windows_ && ((s.out_width < narrow && output_merges && !source_merges) || few_channels)) {
        layout_ = Layout::side_by_side;
        merged_ = output_merges;
        row_floats *= tap_columns * std::min<std::int64_t>(s.row_step, std::ssize(s.row_offsets));
    } else if (inside && !windows_) {
        layout_ = Layout::in_place;
        merged_ = source_merges && output_merges;
    } else {
        layout_ = Layout::padded;
        row_floats = s.row_step * buffer_width_ * s.depth;
    }
    rows_per_band_ = std::clamp<std::int64_t>(buffer_floats / row_floats, 1, s.out_height);
    // Bands cost nothing where nothing is copied: then a single image has some for all threads.
    if (layout_ == Layout::in_place)
        rows_per_band_ =
            std::clamp(divide_up(s.out_height, wanted_bands),
                       std::min(divide_up(fewest_band_pixels, s.out_width), rows_per_band_), rows_per_band_);
    bands_ = divide_up(s.out_height, rows_per_band_);
    rows_per_band_ = divide_up(s.out_height, bands_);
    bands_ = divide_up(s.out_height, rows_per_band_);

    const std::int64_t pixels = s.out_height * s.out_width;
    if (bands_ == 1) {
        const std::int64_t work = pixels * packed_size();
        images_per_task_ = divide_up(smallest_task, work);
        if (packed_size() > cached_weights)
            images_per_task_ = std::max(images_per_task_, divide_up(reuse_pixels, pixels));
    }

    if (layout_ == Layout::in_place) {
        product_depth_ = s.depth;
        a_row_stride_ = s.row_step * s.width * s.groups * s.depth;
        for (const std::int64_t row : s.row_offsets)
            for (const std::int64_t column : s.column_offsets)
                a_offsets_.push_back(
                    static_cast<std::uint64_t>((row * s.width + column) * s.groups * s.depth));
    } else if (layout_ == Layout::padded) {
        lay_out_padded();
    } else {
        lay_out_side_by_side();
    }
}

void TapSum::lay_out_padded() {
    const TapSumShape& s = shape_;
    const auto tap_columns = static_cast<std::int64_t>(s.column_offsets.size());
    product_depth_ = windows_ ? tap_columns * s.depth : s.depth;
    if (windows_) parts_ = std::min(divide_up(tap_columns, s.column_step), s.out_width);
    a_row_stride_ = s.row_step * buffer_width_ * s.depth;
    for (const std::int64_t row : s.row_offsets)
        for (const std::int64_t column :
             std::span(s.column_offsets).first(windows_ ? 1 : s.column_offsets.size()))
            a_offsets_.push_back(static_cast<std::uint64_t>(
                ((row - first_row_) * buffer_width_ + column - first_column_) * s.depth));
    const std::int64_t rows = (rows_per_band_ - 1) * s.row_step + largest(s.row_offsets) - first_row_ + 1;
    buffer_size_ = rows * buffer_width_ * s.depth;
}

void TapSum::lay_out_side_by_side() {
    const TapSumShape& s = shape_;
    product_depth_ = std::ssize(s.column_offsets) * s.depth;
    a_row_stride_ = s.out_width * product_depth_;
    for (std::int64_t remainder = 0; remainder < s.row_step; ++remainder) {
        std::vector<std::int64_t> steps;
        for (const std::int64_t row : s.row_offsets) {
            const std::int64_t step = divide_down(row, s.row_step);
            if (row - step * s.row_step == remainder) steps.push_back(step);
        }
        if (steps.empty()) continue;
        const Plane plane{remainder, smallest(steps), largest(steps) - smallest(steps), buffer_size_};
        planes_.push_back(plane);
        buffer_size_ += (rows_per_band_ + plane.extra) * a_row_stride_;
    }
    for (const std::int64_t row : s.row_offsets) {
        const std::int64_t step = divide_down(row, s.row_step);
        for (const Plane& plane : planes_)
            if (row - step * s.row_step == plane.remainder)
                a_offsets_.push_back(
                    static_cast<std::uint64_t>(plane.offset + (step - plane.first) * a_row_stride_));
    }
}

void TapSum::make_products(ProductForm form) {
    const TapSumShape& s = shape_;
    const std::int64_t last_rows = s.out_height - (bands_ - 1) * rows_per_band_;
    const std::int64_t widths[] = {block_width_, blocks_.back().width};
    for (int w = 0; w < 2; ++w) {
        for (std::size_t tap = 0; tap < a_offsets_.size(); ++tap)
            b_offsets_[w].push_back(tap * static_cast<std::uint64_t>(product_depth_ * widths[w]));
        for (int r = 0; r < 2; ++r) {
            const std::int64_t rows = r == 0 ? rows_per_band_ : last_rows;
            ProductShape product{.rows = merged_ ? rows * s.out_width : part_width(r == 0 ? 0 : parts_ - 1),
                                 .columns = widths[w],
                                 .depth = product_depth_,
                                 .a_stride = product_depth_,
                                 .b_stride = widths[w],
                                 .c_stride = parts_ * s.pixel_stride};
            if (layout_ == Layout::in_place) product.a_stride = s.column_step * s.groups * s.depth;
            if (layout_ == Layout::padded) product.a_stride = parts_ * s.column_step * s.depth;
            products_[r][w].replace = SumOfProducts(product, form);
            product.accumulate = true;
            products_[r][w].accumulate = SumOfProducts(product, form);
        }
    }
}

// The rows that the band reads, one below the other, with zeros around the image.
void TapSum::copy_padded(const float* image, IndexRange rows, float* buffer) const {
    const TapSumShape& s = shape_;
    const std::int64_t channels = s.groups * s.depth;
    const std::int64_t begin = rows.begin * s.row_step + first_row_;
    const std::int64_t end = (rows.end - 1) * s.row_step + largest(s.row_offsets) + 1;
    const std::int64_t left = std::clamp<std::int64_t>(-first_column_, 0, buffer_width_);
    const std::int64_t from = std::max<std::int64_t>(first_column_, 0);
    const std::int64_t copied = std::clamp<std::int64_t>(s.width - from, 0, buffer_width_ - left);
    for (std::int64_t y = begin; y < end; ++y) {
        float* out = buffer + (y - begin) * buffer_width_ * s.depth;
        if (y < 0 || y >= s.height) {
            std::fill_n(out, buffer_width_ * s.depth, 0.0F);
            continue;
        }
        const float* in = image + (y * s.width + from) * channels;
        std::fill_n(out, left * s.depth, 0.0F);
        if (s.groups == 1)
            std::copy_n(in, copied * s.depth, out + left * s.depth);
        else
            for (std::int64_t x = 0; x < copied; ++x)
                std::copy_n(in + x * channels, s.depth, out + (left + x) * s.depth);
        std::fill_n(out + (left + copied) * s.depth, (buffer_width_ - left - copied) * s.depth, 0.0F);
    }
}

// For each output pixel the source pixels of all tap columns side by side, [row][out_width][column][depth].
void TapSum::copy_side_by_side(const float* image, IndexRange rows, float* buffer) const {
    const TapSumShape& s = shape_;
    const std::int64_t channels = s.groups * s.depth;
    for (const Plane& plane : planes_) {
        float* out = buffer + plane.offset;
        for (std::int64_t row = rows.begin; row < rows.end + plane.extra; ++row) {
            const std::int64_t y = (row + plane.first) * s.row_step + plane.remainder;
            if (y < 0 || y >= s.height) {
                std::fill_n(out, a_row_stride_, 0.0F);
                out += a_row_stride_;
                continue;
            }
            for (std::int64_t ox = 0; ox < s.out_width; ++ox)
                for (const std::int64_t column : s.column_offsets) {
                    const std::int64_t x = ox * s.column_step + column;
                    if (x < 0 || x >= s.width)
                        std::fill_n(out, s.depth, 0.0F);
                    else
                        std::copy_n(image + (y * s.width + x) * channels, s.depth, out);
                    out += s.depth;
                }
        }
    }
}

std::int64_t TapSum::part_width(std::int64_t part) const {
    return divide_up(shape_.out_width - part, parts_);
}

// a is the source of the band's first output row, output its first pixel.
void TapSum::compute_band(const float* a, IndexRange rows, const ColumnBlock& block, const float* packed,
                          bool accumulate, float* output) const {
    const bool last_band = rows.end - rows.begin != rows_per_band_;
    const bool last_block = block.width != block_width_;
    const float* b = packed + block.offset;
    const std::vector<std::uint64_t>& b_offsets = b_offsets_[last_block];
    const std::int64_t a_step = shape_.column_step * shape_.depth;
    const std::int64_t runs = merged_ ? 1 : rows.end - rows.begin;
    for (std::int64_t run = 0; run < runs; ++run)
        for (std::int64_t part = 0; part < parts_; ++part) {
            const bool shorter = merged_ ? last_band : part_width(part) != part_width(0);
            const Products& products = products_[shorter][last_block];
            const SumOfProducts& product = accumulate ? products.accumulate : products.replace;
            product(a + run * a_row_stride_ + part * a_step, b,
                    output + run * shape_.row_stride + part * shape_.pixel_stride, a_offsets_, b_offsets);
        }
}

// Some bands of rows of some images, in some blocks of columns.
void TapSum::compute(const Call& call, IndexRange images, IndexRange rows, IndexRange blocks) const {
    const TapSumShape& s = shape_;
    const std::int64_t image_size = s.height * s.width * s.groups * s.depth;
    const Scratch buffer(buffer_size_ * (images.end - images.begin));
    std::int64_t copied_group = -1;
    for (std::int64_t b = blocks.begin; b < blocks.end; ++b) {
        const ColumnBlock& block = blocks_[static_cast<std::size_t>(b)];
        for (std::int64_t n = images.begin; n < images.end; ++n) {
            const float* image = call.source + n * image_size + block.group * s.depth;
            float* copy = buffer.data() + (n - images.begin) * buffer_size_;
            if (copied_group != block.group && layout_ == Layout::padded) copy_padded(image, rows, copy);
            if (copied_group != block.group && layout_ == Layout::side_by_side)
                copy_side_by_side(image, rows, copy);
            const float* a = layout_ == Layout::in_place ? image + rows.begin * a_row_stride_ : copy;
            const std::int64_t column = block.group * s.columns + block.begin;
            float* out = call.output + n * s.image_stride + rows.begin * s.row_stride + column;
            compute_band(a, rows, block, call.packed, call.accumulate, out);
            const float* bias = call.bias == nullptr ? nullptr : call.bias + column;
            for (std::int64_t y = 0; y < rows.end - rows.begin; ++y)
                apply_to_rows(call.activation, bias, s.out_width, block.width, s.pixel_stride,
                              out + y * s.row_stride);
            const std::int64_t piece = n * bands_ + rows.begin / rows_per_band_;
            const std::int64_t first_row = n * s.out_height;
            if (call.sums != nullptr)
                call.sums->add(piece,
                               {(first_row + rows.begin) * s.out_width, (first_row + rows.end) * s.out_width},
                               {column, column + block.width}, call.output);
        }
        copied_group = block.group;
    }
}

void TapSum::operator()(std::int64_t batch, const float* source, const float* packed, const float* bias,
                        const Function& activation, bool accumulate, float* output,
                        BatchStatistics* statistics) const {
    const std::int64_t units = bands_ > 1 ? batch * bands_ : divide_up(batch, images_per_task_);
    const auto blocks = std::ssize(blocks_);
    const std::int64_t parts = std::min<std::int64_t>(blocks, divide_up(fewest_tasks, units));
    std::optional<ChannelSums> sums;
    if (statistics != nullptr) sums.emplace(batch * bands_, shape_.groups * shape_.columns);
    const Call call{source, packed, bias, activation, accumulate, output, sums ? &*sums : nullptr};
    parallel_for(units * parts, [&](std::int64_t task) {
        const std::int64_t unit = task / parts;
        const std::int64_t first = bands_ > 1 ? unit / bands_ : unit * images_per_task_;
        const std::int64_t last = bands_ > 1 ? first + 1 : std::min(first + images_per_task_, batch);
        compute(call, {first, last}, band_rows(bands_ > 1 ? unit % bands_ : 0),
                chunk_range(blocks, parts, task % parts));
    });
    if (sums) sums->finish(*statistics);
}

void TapSum::of_one_image(const float* source, const float* packed, const float* bias,
                          const Function& activation, float* output) const {
    for (std::int64_t band = 0; band < bands_; ++band)
        compute({source, packed, bias, activation, false, output, nullptr}, {0, 1}, band_rows(band),
                {0, std::ssize(blocks_)});
}

const float* pack_weight(const TapSum& sum, const float* weight, std::int64_t row_length, float* packed) {
    const auto& blocks = sum.blocks();
    if (blocks.size() == 1) return weight;
    const std::int64_t rows = sum.packed_size() / row_length;
    parallel_for(std::ssize(blocks), [&](std::int64_t b) {
        const TapSum::ColumnBlock& block = blocks[static_cast<std::size_t>(b)];
        const float* from = weight + block.group * sum.shape().columns + block.begin;
        float* to = packed + block.offset;
        for (std::int64_t row = 0; row < rows; ++row)
            std::copy_n(from + row * row_length, block.width, to + row * block.width);
    });
    return packed;
}

void pack_transposed_weight(const TapSum& sum, const float* weight, std::int64_t row_length,
                            std::span<const std::int64_t> taps, float* packed) {
    const auto& blocks = sum.blocks();
    const std::int64_t depth = sum.shape().depth;
    const auto count = std::ssize(taps);
    const std::int64_t pieces = std::ssize(blocks) * count;
    const std::int64_t tasks = std::min(pieces, divide_up(sum.packed_size(), smallest_copy));
    parallel_for(tasks, [&](std::int64_t task) {
        const IndexRange range = chunk_range(pieces, tasks, task);
        for (std::int64_t piece = range.begin; piece < range.end; ++piece) {
            const TapSum::ColumnBlock& block = blocks[static_cast<std::size_t>(piece / count)];
            const std::int64_t tap = piece % count;
            const std::int64_t row = taps[static_cast<std::size_t>(tap)] * sum.shape().columns + block.begin;
            transpose(block.width, depth, weight + row * row_length + block.group * depth, row_length,
                      packed + block.offset + tap * depth * block.width, block.width);
        }
    });
}

}  // namespace jevrin::inline v1
