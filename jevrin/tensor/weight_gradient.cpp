#include "jevrin/tensor/weight_gradient.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/partial_sums.hpp"
#include "jevrin/tensor/scratch.hpp"
#include "jevrin/tensor/transposition.hpp"

#include <algorithm>
#include <cassert>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t channel_block = 64;
constexpr std::int64_t vector_floats = 16;
constexpr std::int64_t pixels_per_portion = 512;  // long enough to load and store the sums rarely
constexpr std::int64_t narrowest_wide = 33;       // shorter rows are joined to longer products
constexpr std::int64_t wanted_tasks = 8;
constexpr std::int64_t most_partial_floats = 4 * 1024 * 1024;

}  // namespace

WeightGradient::WeightGradient(const ConvolutionShape& shape, ProductForm form) : shape_(shape) {
    const ConvolutionShape& s = shape_;
    group_in_ = s.in_channels / s.groups;
    group_out_ = s.out_channels / s.groups;
    for (std::int64_t group = 0; group < s.groups; ++group)
        for (std::int64_t begin = 0; begin < group_in_; begin += channel_block)
            blocks_.push_back({group, begin, std::min(channel_block, group_in_ - begin)});
    column_width_ = block_columns(group_out_);

    portions_ = PixelPortions(s.out_height(), pixels_per_portion / s.out_width(),
                              divide_up(pixels_per_portion, s.out_height() * s.out_width()));

    // Rows begin at whole vectors, so that storing them crosses no line of the cache.
    wide_ = s.stride_width == 1 && s.out_width() >= narrowest_wide;
    left_margin_ = wide_ ? round_up(s.pad_left, vector_floats) : 0;
    row_length_ = wide_ ? round_up(left_margin_ + s.width + s.pad_right, vector_floats) : s.out_width();
    // Kernel row k reads source row y * stride + k * dilation - pad: the rows of one remainder lie together.
    row_offsets_.resize(static_cast<std::size_t>(s.kernel_height));
    for (std::int64_t remainder = 0; remainder < s.stride_height; ++remainder) {
        Plane plane{remainder, 0, -1, channel_stride_};
        for (std::int64_t k = 0; k < s.kernel_height; ++k) {
            const std::int64_t row = k * s.dilation_height - s.pad_top;
            const std::int64_t step = divide_down(row, s.stride_height);
            if (row - step * s.stride_height != remainder) continue;
            if (plane.extra < 0) plane.first = step;
            plane.extra = step - plane.first;
            row_offsets_[static_cast<std::size_t>(k)] = plane.offset + (step - plane.first) * row_length_;
        }
        if (plane.extra < 0) continue;
        planes_.push_back(plane);
        channel_stride_ += (portions_.rows() + plane.extra) * row_length_;
    }
    // Channels a multiple of 256 elements apart would share the same few lines of the first cache.
    if (channel_stride_ % 256 == 0) channel_stride_ += 16;
    for (const Plane& plane : planes_)
        longest_plane_ = std::max(longest_plane_, (portions_.rows() + plane.extra) * s.width);
    if (!wide_) prepare_columns();
    image_stride_ = (wide_ ? 1 : s.kernel_width) * std::min(group_in_, channel_block) * channel_stride_;

    const std::int64_t runs = wide_ ? portions_.rows() : 1;
    const std::int64_t widths[] = {column_width_, (group_out_ - 1) % column_width_ + 1};
    for (std::int64_t n = 0; n < portions_.images(); ++n)
        for (std::int64_t r = 0; r < runs; ++r) {
            a_offsets_.push_back(static_cast<std::uint64_t>(n * image_stride_ + r * row_length_));
            for (int c = 0; c < 2; ++c)
                b_offsets_[c].push_back(
                    static_cast<std::uint64_t>((n * s.out_height() + r) * s.out_width() * widths[c]));
        }

    for (int r = 0; r < 2; ++r)
        for (int b = 0; b < 2; ++b)
            for (int c = 0; c < 2; ++c) {
                const std::int64_t channels = b == 0 ? blocks_.front().width : blocks_.back().width;
                const std::int64_t columns = widths[c];
                ProductShape product{
                    .rows = channels,
                    .columns = columns,
                    .depth = wide_ ? s.out_width()
                                   : (r == 0 ? portions_.rows() : portions_.last_rows()) * s.out_width(),
                    .a_stride = channel_stride_,
                    .b_stride = columns,
                    .c_stride = s.out_channels};
                products_[r][b][c].replace = SumOfProducts(product, form);
                product.accumulate = true;
                products_[r][b][c].accumulate = SumOfProducts(product, form);
            }
}

void WeightGradient::prepare_columns() {
    const ConvolutionShape& s = shape_;
    turn_margin_ = round_up(std::max(s.pad_left, s.dilation_width * (s.kernel_width - 1)), vector_floats);
    turned_size_ = longest_plane_ * std::min(group_in_, channel_block) + 2 * turn_margin_;
    shifts_ = s.stride_width == 1 && s.width == s.out_width();
    if (!shifts_) return;
    kept_.assign(static_cast<std::size_t>(s.kernel_width * longest_plane_), 0);
    for (std::int64_t k = 0; k < s.kernel_width; ++k)
        for (std::int64_t i = 0; i < longest_plane_; ++i) {
            const std::int64_t x = i % s.width + k * s.dilation_width - s.pad_left;
            kept_[static_cast<std::size_t>(k * longest_plane_ + i)] = x >= 0 && x < s.width ? 1 : 0;
        }
}

std::int64_t WeightGradient::most_chunks() const {
    const auto by_blocks = divide_up(wanted_tasks, std::ssize(blocks_));
    const std::int64_t by_memory = std::max<std::int64_t>(1, most_partial_floats / shape_.weight_count());
    return std::min(by_blocks, by_memory);
}

std::int64_t WeightGradient::chunks(std::int64_t batch) const {
    // Adding up two chunks costs about as much time as a portion.
    const std::int64_t by_portions =
        std::max(std::min<std::int64_t>(portions_.count(batch), 2), portions_.count(batch) / 2);
    return std::min(most_chunks(), by_portions);
}

std::int64_t WeightGradient::portion_scratch() const {
    const std::int64_t pixels = portions_.images() * portions_.rows() * shape_.out_width();
    return portions_.images() * image_stride_ + turned_size_ + pixels * column_width_;
}

std::int64_t WeightGradient::scratch_size() const {
    const std::int64_t partials = most_chunks() > 1 ? most_chunks() * shape_.weight_count() : 0;
    return std::max(portion_scratch(), partials);
}

// Source rows of a plane, channel by channel: to[c * stride + r * row_length + x]. Rows outside the image are
// zero.
void WeightGradient::turn_rows(const PixelPortion& portion, const Plane& plane, const float* image,
                               std::int64_t channels, std::int64_t row_length, std::int64_t stride,
                               float* to) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t rows = portion.rows + plane.extra;
    const auto source_row = [&](std::int64_t r) {
        return (portion.first_row + r + plane.first) * s.stride_height + plane.remainder;
    };
    const auto inside = [&](std::int64_t r) { return source_row(r) >= 0 && source_row(r) < s.height; };
    const bool unbroken = s.stride_height == 1 && row_length == s.width;
    std::int64_t end = 0;
    for (std::int64_t r = 0; r < rows; r = end) {
        end = r + 1;  // rows that follow each other here as in the image are turned at once
        while (unbroken && end < rows && inside(end) == inside(r)) ++end;
        if (inside(r))
            transpose((end - r) * s.width, channels, image + source_row(r) * s.width * s.in_channels,
                      s.in_channels, to + r * row_length, stride);
        else
            for (std::int64_t c = 0; c < channels; ++c)
                std::fill_n(to + c * stride + r * row_length, (end - r) * s.width, 0.0F);
    }
}

// The pixels that a kernel column meets, from rows of the source.
void WeightGradient::pick_rows(const float* turned, std::int64_t rows, std::int64_t shift, float* to) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t out = s.out_width();
    const std::int64_t begin = std::clamp<std::int64_t>(divide_up(-shift, s.stride_width), 0, out);
    const std::int64_t end =
        std::clamp<std::int64_t>(divide_down(s.width - 1 - shift, s.stride_width) + 1, begin, out);
    for (std::int64_t r = 0; r < rows; ++r, turned += s.width, to += out) {
        for (std::int64_t x = 0; x < begin; ++x) to[x] = 0.0F;
        for (std::int64_t x = begin; x < end; ++x) to[x] = turned[x * s.stride_width + shift];
        for (std::int64_t x = end; x < out; ++x) to[x] = 0.0F;
    }
}

// The same from rows as long as those of the output: a shift, without what comes over from a neighbouring
// row.
void WeightGradient::shift_rows(const float* turned, std::int64_t count, const std::uint32_t* kept,
                                std::int64_t shift, float* to) {
    const float* from = turned + shift;
    for (std::int64_t i = 0; i < count; ++i) {
        const float value = from[i];
        to[i] = kept[i] != 0 ? value : 0.0F;
    }
}

// [image][channel][plane][row][padded width]
void WeightGradient::lay_out_rows(const PixelPortion& portion, const ChannelBlock& block, const float* image,
                                  float* channels) const {
    const ConvolutionShape& s = shape_;
    for (const Plane& plane : planes_) {
        const std::int64_t rows = portion.rows + plane.extra;
        for (std::int64_t c = 0; c < block.width; ++c)
            for (std::int64_t r = 0; r < rows; ++r) {
                float* row = channels + c * channel_stride_ + plane.offset + r * row_length_;
                for (std::int64_t x = left_margin_ - s.pad_left; x < left_margin_; ++x) row[x] = 0.0F;
                for (std::int64_t x = left_margin_ + s.width; x < left_margin_ + s.width + s.pad_right; ++x)
                    row[x] = 0.0F;
            }
        turn_rows(portion, plane, image, block.width, row_length_, channel_stride_,
                  channels + plane.offset + left_margin_);
    }
}

// [image][kernel column][channel][plane][row][out_width]
void WeightGradient::lay_out_columns(const PixelPortion& portion, const ChannelBlock& block,
                                     const float* image, float* turned, float* channels) const {
    const ConvolutionShape& s = shape_;
    for (const Plane& plane : planes_) {
        const std::int64_t rows = portion.rows + plane.extra;
        const std::int64_t stride = rows * s.width;
        turn_rows(portion, plane, image, block.width, s.width, stride, turned);
        for (std::int64_t k = 0; k < s.kernel_width; ++k)
            for (std::int64_t c = 0; c < block.width; ++c) {
                const float* from = turned + c * stride;
                const std::int64_t shift = k * s.dilation_width - s.pad_left;
                float* to = channels + (k * block.width + c) * channel_stride_ + plane.offset;
                if (shifts_)
                    shift_rows(from, stride, kept_.data() + k * longest_plane_, shift, to);
                else
                    pick_rows(from, rows, shift, to);
            }
    }
}

void WeightGradient::add_portion(const PixelPortion& portion, const ChannelBlock& block, const float* input,
                                 const float* output_gradient, bool accumulate, float* gradient,
                                 float* scratch) const {
    const ConvolutionShape& s = shape_;
    float* channels = scratch;
    float* turned = channels + portions_.images() * image_stride_;
    float* copy = turned + turned_size_;
    for (std::int64_t n = 0; n < portion.images; ++n) {
        const float* image = input + (portion.first_image + n) * s.height * s.width * s.in_channels +
                             block.group * group_in_ + block.begin;
        if (wide_)
            lay_out_rows(portion, block, image, channels + n * image_stride_);
        else
            lay_out_columns(portion, block, image, turned + turn_margin_, channels + n * image_stride_);
    }

    const bool in_place = group_out_ == s.out_channels && column_width_ == group_out_;
    for (std::int64_t column = 0; column < group_out_; column += column_width_) {
        const std::int64_t width = std::min(column_width_, group_out_ - column);
        const std::int64_t first = block.group * group_out_ + column;
        const float* b = copy;
        if (in_place)
            b = output_gradient +
                (portion.first_image * s.out_height() + portion.first_row) * s.out_width() * s.out_channels;
        else
            copy_columns(s, portion, first, width, output_gradient, copy);
        const auto runs = static_cast<std::size_t>(portion.images * (wide_ ? portion.rows : 1));
        const std::span a_offsets = std::span(a_offsets_).first(runs);
        const std::span b_offsets = std::span(b_offsets_[width != column_width_]).first(runs);
        const Products& products = products_[portion.rows != portions_.rows()]
                                            [block.width != blocks_.front().width][width != column_width_];
        const SumOfProducts& product = accumulate ? products.accumulate : products.replace;
        const std::int64_t column_step = wide_ ? s.dilation_width : block.width * channel_stride_;
        const std::int64_t first_element = wide_ ? left_margin_ - s.pad_left : 0;
        for (std::int64_t ky = 0; ky < s.kernel_height; ++ky)
            for (std::int64_t kx = 0; kx < s.kernel_width; ++kx) {
                const float* a =
                    channels + row_offsets_[static_cast<std::size_t>(ky)] + first_element + kx * column_step;
                float* c = gradient +
                           ((ky * s.kernel_width + kx) * group_in_ + block.begin) * s.out_channels + first;
                product(a, b, c, a_offsets, b_offsets);
            }
    }
}

void WeightGradient::operator()(std::int64_t batch, const float* input, const float* output_gradient,
                                float* gradient) const {
    const std::int64_t count = shape_.weight_count();
    const std::int64_t chunk_count = chunks(batch);
    const Scratch partials(chunk_count > 1 ? chunk_count * count : 0);
    const auto blocks = std::ssize(blocks_);
    parallel_for(chunk_count * blocks, [&](std::int64_t task) {
        const std::int64_t chunk = task / blocks;
        const ChannelBlock& block = blocks_[static_cast<std::size_t>(task % blocks)];
        const Scratch scratch(portion_scratch());
        float* sums = chunk_count > 1 ? partials.data() + chunk * count : gradient;
        const IndexRange range = chunk_range(portions_.count(batch), chunk_count, chunk);
        for (std::int64_t i = range.begin; i < range.end; ++i) {
            add_portion(portions_.at(batch, i), block, input, output_gradient, i != range.begin, sums,
                        scratch.data());
        }
    });
    if (chunk_count > 1) add_partials(chunk_count, count, partials.data(), gradient);
}

}  // namespace jevrin::inline v1
