#include "jevrin/tensor/tap_gradient.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/partial_sums.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <span>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t shallow = 16;       // fewer channels make short inner loops
constexpr std::int64_t few_channels = 64;  // for which rows of any length serve
constexpr std::int64_t long_row = 24;      // pixels, for which strides serve with any number of channels
constexpr std::int64_t most_block_rows = 128;
constexpr std::int64_t most_block_columns = 256;
constexpr std::int64_t most_slice_columns = 64;     // the kernels keep as many in registers
constexpr std::int64_t portion_pixels = 512;        // long enough to load and store the sums rarely
constexpr std::int64_t portion_floats = 32 * 1024;  // of the source, to stay in a cache of 1 MB
constexpr std::int64_t wanted_tasks = 8;
constexpr std::int64_t most_partial_floats = 4 << 20;

}  // namespace

bool TapGradient::serves(const ConvolutionShape& shape) {
    return shape.in_channels / shape.groups <= few_channels ||
           (shape.stride_width > 1 && shape.out_width() >= long_row);
}

TapGradient::TapGradient(const ConvolutionShape& shape, ProductForm form)
    : shape_(shape),
      group_in_(shape.in_channels / shape.groups),
      group_out_(shape.out_channels / shape.groups),
      block_rows_(std::min(group_in_, most_block_rows)),
      slice_columns_(std::min(group_out_, most_slice_columns)),
      block_columns_(std::min(group_out_, most_block_columns)),
      windows_(group_in_ < shallow && shape.kernel_width > 1 && shape.dilation_width == 1) {
    const ConvolutionShape& s = shape_;
    source_width_ = (s.out_width() - 1) * s.stride_width + (s.kernel_width - 1) * s.dilation_width + 1;
    copies_source_ = s.pad_top > 0 || s.pad_left > 0 || source_width_ > s.width ||
                     source_rows(s.out_height()) > s.height || (windows_ && s.groups > 1);
    pixel_stride_ = copies_source_ ? block_rows_ : s.in_channels;
    if (!copies_source_) source_width_ = s.width;
    const std::int64_t row_floats = s.stride_height * source_width_ * block_rows_;
    portions_ =
        PixelPortions(s.out_height(), std::min(portion_pixels / s.out_width(), portion_floats / row_floats),
                      std::min(divide_up(portion_pixels, s.out_height() * s.out_width()),
                               portion_floats / (s.out_height() * row_floats)));
    image_stride_ =
        (copies_source_ ? source_rows(portions_.rows()) : s.height) * source_width_ * pixel_stride_;

    const std::int64_t parts =
        windows_ ? std::min(divide_up(s.kernel_width, s.stride_width), s.out_width()) : 1;
    const std::int64_t longer = s.out_width() % parts;
    if (longer > 0) make_parts(parts, 0, longer, form);
    make_parts(parts, longer, parts, form);
}

void TapGradient::make_parts(std::int64_t all, std::int64_t first, std::int64_t last, ProductForm form) {
    const ConvolutionShape& s = shape_;
    const std::int64_t widths[] = {slice_columns_, (group_out_ - 1) % slice_columns_ + 1};
    const std::int64_t heights[] = {block_rows_, (group_in_ - 1) % block_rows_ + 1};
    Parts parts;
    parts.count = static_cast<std::size_t>(last - first);
    for (std::int64_t n = 0; n < portions_.images(); ++n)
        for (std::int64_t r = 0; r < portions_.rows(); ++r)
            for (std::int64_t part = first; part < last; ++part) {
                const std::int64_t pixel = r * s.stride_height * source_width_ + part * s.stride_width;
                parts.a_offsets.push_back(
                    static_cast<std::uint64_t>(n * image_stride_ + pixel * pixel_stride_));
                for (int c = 0; c < 2; ++c)
                    parts.b_offsets[c].push_back(static_cast<std::uint64_t>(
                        ((n * portions_.rows() + r) * s.out_width() + part) * widths[c]));
            }
    for (int r = 0; r < 2; ++r)
        for (int c = 0; c < 2; ++c) {
            ProductShape product{.rows = (windows_ ? s.kernel_width : 1) * heights[r],
                                 .columns = widths[c],
                                 .depth = divide_up(s.out_width() - first, all),
                                 .a_stride = all * s.stride_width * pixel_stride_,
                                 .b_stride = all * widths[c],
                                 .c_stride = s.out_channels,
                                 .a_transposed = true};
            parts.products[r][c].replace = SumOfProducts(product, form);
            product.accumulate = true;
            parts.products[r][c].accumulate = SumOfProducts(product, form);
        }
    parts_.push_back(std::move(parts));
}

std::int64_t TapGradient::source_rows(std::int64_t rows) const {
    return (rows - 1) * shape_.stride_height + (shape_.kernel_height - 1) * shape_.dilation_height + 1;
}

std::int64_t TapGradient::block_count() const {
    return shape_.groups * divide_up(group_in_, block_rows_) * divide_up(group_out_, block_columns_);
}

TapGradient::Block TapGradient::block(std::int64_t index) const {
    const std::int64_t across = divide_up(group_out_, block_columns_);
    const std::int64_t down = divide_up(group_in_, block_rows_);
    const std::int64_t row = index / across % down * block_rows_;
    const std::int64_t column = index % across * block_columns_;
    return {index / across / down, row, std::min(block_rows_, group_in_ - row), column,
            std::min(block_columns_, group_out_ - column)};
}

std::int64_t TapGradient::most_chunks() const {
    const std::int64_t by_memory = std::max<std::int64_t>(1, most_partial_floats / shape_.weight_count());
    return std::min(divide_up(wanted_tasks, block_count()), by_memory);
}

// The source rows of a portion, and a slice of its output gradient.
std::int64_t TapGradient::portion_scratch() const {
    const std::int64_t pixels = portions_.rows() * shape_.out_width();
    return portions_.images() * ((copies_source_ ? image_stride_ : 0) + pixels * slice_columns_);
}

std::int64_t TapGradient::scratch_size() const {
    return std::max(portion_scratch(), most_chunks() > 1 ? most_chunks() * shape_.weight_count() : 0);
}

// [image][row][pixel with margins][channels of the block, in the room of a full one]
void TapGradient::copy_source(const PixelPortion& portion, const Block& block, const float* input,
                              float* copy) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t left = std::min(s.pad_left, source_width_);
    const std::int64_t copied = std::min(s.width, source_width_ - left);
    const std::int64_t right = source_width_ - left - copied;
    for (std::int64_t n = 0; n < portion.images; ++n)
        for (std::int64_t r = 0; r < source_rows(portion.rows); ++r) {
            float* to = copy + n * image_stride_ + r * source_width_ * block_rows_;
            const std::int64_t y = portion.first_row * s.stride_height - s.pad_top + r;
            if (y < 0 || y >= s.height) {
                std::fill_n(to, source_width_ * block_rows_, 0.0F);
                continue;
            }
            const float* from = input + ((portion.first_image + n) * s.height + y) * s.width * s.in_channels +
                                block.group * group_in_ + block.row;
            std::fill_n(to, left * block_rows_, 0.0F);
            to += left * block_rows_;
            if (block_rows_ == s.in_channels)
                std::copy_n(from, copied * block_rows_, to);
            else
                for (std::int64_t x = 0; x < copied; ++x)
                    std::copy_n(from + x * s.in_channels, block.rows, to + x * block_rows_);
            std::fill_n(to + copied * block_rows_, right * block_rows_, 0.0F);
        }
}

void TapGradient::add_portion(const PixelPortion& portion, const Block& block, const float* input,
                              const float* output_gradient, bool accumulate, float* gradient,
                              float* scratch) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t first_pixel =
        (portion.first_image * s.height + portion.first_row * s.stride_height) * s.width;
    const float* source = input + first_pixel * s.in_channels + block.group * group_in_ + block.row;
    if (copies_source_) {
        copy_source(portion, block, input, scratch);
        source = scratch;
        scratch += portions_.images() * image_stride_;
    }
    for (std::int64_t column = block.column; column < block.column + block.columns;
         column += slice_columns_) {
        const std::int64_t columns = std::min(slice_columns_, group_out_ - column);
        const std::int64_t first_row = portion.first_image * s.out_height() + portion.first_row;
        const float* b = output_gradient + first_row * s.out_width() * s.out_channels;
        if (columns != s.out_channels) {
            copy_columns(s, portion, block.group * group_out_ + column, columns, output_gradient, scratch);
            b = scratch;
        }
        add_products(portion, block, column, source, b, accumulate, gradient);
    }
}

// source and slice are those of the portion: the first pixel under the kernel, and some columns.
void TapGradient::add_products(const PixelPortion& portion, const Block& block, std::int64_t column,
                               const float* source, const float* slice, bool accumulate,
                               float* gradient) const {
    const ConvolutionShape& s = shape_;
    const bool last_rows = block.rows != block_rows_;
    const bool last_columns = group_out_ - column < slice_columns_;
    const std::int64_t columns_at_once = windows_ ? s.kernel_width : 1;
    for (std::int64_t ky = 0; ky < s.kernel_height; ++ky)
        for (std::int64_t kx = 0; kx < s.kernel_width; kx += columns_at_once) {
            const std::int64_t pixel = ky * s.dilation_height * source_width_ + kx * s.dilation_width;
            const std::int64_t row = (ky * s.kernel_width + kx) * group_in_ + block.row;
            float* c = gradient + row * s.out_channels + block.group * group_out_ + column;
            bool replace = !accumulate;
            for (const Parts& parts : parts_) {
                const auto runs = static_cast<std::size_t>(portion.images * portion.rows) * parts.count;
                const Products& products = parts.products[last_rows][last_columns];
                const SumOfProducts& product = replace ? products.replace : products.accumulate;
                product(source + pixel * pixel_stride_, slice, c, std::span(parts.a_offsets).first(runs),
                        std::span(parts.b_offsets[last_columns]).first(runs));
                replace = false;
            }
        }
}

void TapGradient::operator()(std::int64_t batch, const float* input, const float* output_gradient,
                             float* gradient) const {
    const std::int64_t count = shape_.weight_count();
    const std::int64_t all = portions_.count(batch);
    // Adding up two chunks costs about as much time as a portion.
    const std::int64_t chunks = std::min(most_chunks(), std::max(std::min<std::int64_t>(all, 2), all / 2));
    const std::int64_t blocks = block_count();
    const Scratch partials(chunks > 1 ? chunks * count : 0);
    parallel_for(chunks * blocks, [&](std::int64_t task) {
        const std::int64_t chunk = task / blocks;
        const Scratch scratch(portion_scratch());
        float* sums = chunks > 1 ? partials.data() + chunk * count : gradient;
        const IndexRange range = chunk_range(all, chunks, chunk);
        for (std::int64_t i = range.begin; i < range.end; ++i)
            add_portion(portions_.at(batch, i), block(task % blocks), input, output_gradient,
                        i != range.begin, sums, scratch.data());
    });
    if (chunks > 1) add_partials(chunks, count, partials.data(), gradient);
}

}  // namespace jevrin::inline v1
