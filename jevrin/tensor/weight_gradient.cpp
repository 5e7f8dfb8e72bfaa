#include "jevrin/tensor/weight_gradient.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/scratch.hpp"
#include "jevrin/tensor/transposition.hpp"

#include <algorithm>
#include <cassert>

namespace jevrin {
namespace {

constexpr std::int64_t channel_block = 64;
constexpr std::int64_t widest_columns = 64;
constexpr std::int64_t usual_columns = 32;
constexpr std::int64_t pixels_per_portion = 256;  // long enough to load and store the sums rarely
constexpr std::int64_t wanted_tasks = 8;
constexpr std::int64_t most_partial_floats = 4 * 1024 * 1024;

std::int64_t floor_divide(std::int64_t a, std::int64_t b) {
    return a >= 0 ? a / b : -((-a + b - 1) / b);
}

std::int64_t divide_up(std::int64_t a, std::int64_t b) {
    return (a + b - 1) / b;
}

}  // namespace

WeightGradient::WeightGradient(const ConvolutionShape& shape, ProductForm form) : shape_(shape) {
    const ConvolutionShape& s = shape_;
    group_in_ = s.in_channels / s.groups;
    group_out_ = s.out_channels / s.groups;
    for (std::int64_t group = 0; group < s.groups; ++group)
        for (std::int64_t begin = 0; begin < group_in_; begin += channel_block)
            blocks_.push_back({group, begin, std::min(channel_block, group_in_ - begin)});
    column_width_ = group_out_ <= widest_columns ? group_out_ : usual_columns;

    rows_per_portion_ = std::clamp<std::int64_t>(pixels_per_portion / s.out_width(), 1, s.out_height());
    row_portions_ = divide_up(s.out_height(), rows_per_portion_);
    rows_per_portion_ = divide_up(s.out_height(), row_portions_);
    row_portions_ = divide_up(s.out_height(), rows_per_portion_);
    if (row_portions_ == 1)
        images_per_portion_ = divide_up(pixels_per_portion, s.out_height() * s.out_width());

    // Kernel row k reads source row y * stride + k * dilation - pad: the rows of one remainder lie together.
    row_offsets_.resize(static_cast<std::size_t>(s.kernel_height));
    for (std::int64_t remainder = 0; remainder < s.stride_height; ++remainder) {
        Plane plane{remainder, 0, -1, channel_stride_};
        for (std::int64_t k = 0; k < s.kernel_height; ++k) {
            const std::int64_t row = k * s.dilation_height - s.pad_top;
            const std::int64_t step = floor_divide(row, s.stride_height);
            if (row - step * s.stride_height != remainder) continue;
            if (plane.extra < 0) plane.first = step;
            plane.extra = step - plane.first;
            row_offsets_[static_cast<std::size_t>(k)] = plane.offset + (step - plane.first) * s.out_width();
        }
        if (plane.extra < 0) continue;
        planes_.push_back(plane);
        channel_stride_ += (rows_per_portion_ + plane.extra) * s.out_width();
    }
    // Channels a multiple of 256 elements apart would share the same few lines of the first cache.
    if (channel_stride_ % 256 == 0) channel_stride_ += 16;
    image_stride_ = s.kernel_width * std::min(group_in_, channel_block) * channel_stride_;

    const std::int64_t last_rows = s.out_height() - (row_portions_ - 1) * rows_per_portion_;
    const std::int64_t last_columns = (group_out_ - 1) % column_width_ + 1;
    for (int r = 0; r < 2; ++r)
        for (int b = 0; b < 2; ++b)
            for (int c = 0; c < 2; ++c) {
                const std::int64_t channels = b == 0 ? blocks_.front().width : blocks_.back().width;
                const std::int64_t columns = c == 0 ? column_width_ : last_columns;
                // With all channels in one block the kernel columns follow each other in the gradient as in
                // the layout, and one product serves a whole kernel row.
                ProductShape product{.rows = channels == group_in_ ? s.kernel_width * channels : channels,
                                     .columns = columns,
                                     .depth = (r == 0 ? rows_per_portion_ : last_rows) * s.out_width(),
                                     .a_stride = channel_stride_,
                                     .b_stride = columns,
                                     .c_stride = s.out_channels};
                products_[r][b][c].replace = SumOfProducts(product, form);
                product.accumulate = true;
                products_[r][b][c].accumulate = SumOfProducts(product, form);
            }
}

std::int64_t WeightGradient::portions(std::int64_t batch) const {
    return row_portions_ > 1 ? batch * row_portions_ : divide_up(batch, images_per_portion_);
}

WeightGradient::Portion WeightGradient::portion(std::int64_t batch, std::int64_t index) const {
    if (row_portions_ == 1) {
        const std::int64_t first = index * images_per_portion_;
        return {first, std::min(images_per_portion_, batch - first), 0, shape_.out_height()};
    }
    const std::int64_t row = index % row_portions_ * rows_per_portion_;
    return {index / row_portions_, 1, row, std::min(rows_per_portion_, shape_.out_height() - row)};
}

std::int64_t WeightGradient::chunks(std::int64_t batch) const {
    const auto by_blocks = divide_up(wanted_tasks, std::ssize(blocks_));
    const std::int64_t by_memory = std::max<std::int64_t>(1, most_partial_floats / shape_.weight_count());
    return std::min({by_blocks, by_memory, portions(batch)});
}

std::int64_t WeightGradient::scratch_size() const {
    const std::int64_t pixels = images_per_portion_ * rows_per_portion_ * shape_.out_width();
    const std::int64_t portion =
        images_per_portion_ * image_stride_ + channel_block * shape_.width + pixels * column_width_;
    return std::max(portion, wanted_tasks * std::min(shape_.weight_count(), most_partial_floats));
}

// The pixels of a source row that a kernel column meets, for each channel: [channel][out_width], the channels
// channel_stride_ apart.
void WeightGradient::place_row(const float* turned_row, std::int64_t channel_count,
                               std::int64_t kernel_column, float* to) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t shift = kernel_column * s.dilation_width - s.pad_left;
    const std::int64_t out = s.out_width();
    const std::int64_t begin = std::clamp<std::int64_t>(divide_up(-shift, s.stride_width), 0, out);
    const std::int64_t end =
        std::clamp<std::int64_t>(floor_divide(s.width - 1 - shift, s.stride_width) + 1, begin, out);
    for (std::int64_t c = 0; c < channel_count; ++c) {
        const float* from = turned_row + c * s.width + shift;
        float* channel = to + c * channel_stride_;
        for (std::int64_t x = 0; x < begin; ++x) channel[x] = 0.0F;
        if (s.stride_width == 1)
            for (std::int64_t x = begin; x < end; ++x) channel[x] = from[x];
        else
            for (std::int64_t x = begin; x < end; ++x) channel[x] = from[x * s.stride_width];
        for (std::int64_t x = end; x < out; ++x) channel[x] = 0.0F;
    }
}

// [image][kernel column][channel][plane][row][out_width]
void WeightGradient::lay_out_channels(const Portion& portion, const ChannelBlock& block, const float* input,
                                      float* turned_row, float* channels) const {
    const ConvolutionShape& s = shape_;
    for (std::int64_t n = 0; n < portion.images; ++n) {
        const float* image = input + (portion.first_image + n) * s.height * s.width * s.in_channels +
                             block.group * group_in_ + block.begin;
        for (const Plane& plane : planes_)
            for (std::int64_t r = 0; r < portion.rows + plane.extra; ++r) {
                const std::int64_t y =
                    (portion.first_row + r + plane.first) * s.stride_height + plane.remainder;
                const bool inside = y >= 0 && y < s.height;
                if (inside)
                    transpose(s.width, block.width, image + y * s.width * s.in_channels, s.in_channels,
                              turned_row, s.width);
                for (std::int64_t k = 0; k < s.kernel_width; ++k) {
                    float* to = channels + n * image_stride_ + k * block.width * channel_stride_ +
                                plane.offset + r * s.out_width();
                    if (inside)
                        place_row(turned_row, block.width, k, to);
                    else
                        for (std::int64_t c = 0; c < block.width; ++c)
                            std::fill_n(to + c * channel_stride_, s.out_width(), 0.0F);
                }
            }
    }
}

// Some columns of the output gradient, side by side: [image][pixel][width].
void WeightGradient::copy_gradient(const Portion& portion, std::int64_t first, std::int64_t width,
                                   const float* output_gradient, float* copy) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t pixels = portion.rows * s.out_width();
    for (std::int64_t n = 0; n < portion.images; ++n) {
        const float* from = output_gradient +
                            ((portion.first_image + n) * s.out_height() + portion.first_row) * s.out_width() *
                                s.out_channels +
                            first;
        for (std::int64_t p = 0; p < pixels; ++p, copy += width)
            std::copy_n(from + p * s.out_channels, width, copy);
    }
}

void WeightGradient::add_portion(const Portion& portion, const ChannelBlock& block, const float* input,
                                 const float* output_gradient, bool accumulate, float* gradient,
                                 float* scratch) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t pixels = portion.rows * s.out_width();
    float* channels = scratch;
    float* turned_row = channels + images_per_portion_ * image_stride_;
    float* copy = turned_row + channel_block * s.width;
    lay_out_channels(portion, block, input, turned_row, channels);

    thread_local std::vector<std::uint64_t> a_offsets;
    thread_local std::vector<std::uint64_t> b_offsets;
    const bool in_place = group_out_ == s.out_channels && column_width_ == group_out_;
    for (std::int64_t column = 0; column < group_out_; column += column_width_) {
        const std::int64_t width = std::min(column_width_, group_out_ - column);
        const std::int64_t first = block.group * group_out_ + column;
        const float* b = copy;
        if (in_place)
            b = output_gradient +
                (portion.first_image * s.out_height() + portion.first_row) * s.out_width() * s.out_channels;
        else
            copy_gradient(portion, first, width, output_gradient, copy);
        const std::int64_t b_image =
            in_place ? s.out_height() * s.out_width() * s.out_channels : pixels * width;
        a_offsets.clear();
        b_offsets.clear();
        for (std::int64_t n = 0; n < portion.images; ++n) {
            a_offsets.push_back(static_cast<std::uint64_t>(n * image_stride_));
            b_offsets.push_back(static_cast<std::uint64_t>(n * b_image));
        }
        const Products& products = products_[portion.rows != rows_per_portion_]
                                            [block.width != blocks_.front().width][width != column_width_];
        const SumOfProducts& product = accumulate ? products.accumulate : products.replace;
        const std::int64_t columns_at_once = block.width == group_in_ ? s.kernel_width : 1;
        for (std::int64_t ky = 0; ky < s.kernel_height; ++ky)
            for (std::int64_t kx = 0; kx < s.kernel_width; kx += columns_at_once) {
                const float* a = channels + kx * block.width * channel_stride_ +
                                 row_offsets_[static_cast<std::size_t>(ky)];
                float* c = gradient +
                           ((ky * s.kernel_width + kx) * group_in_ + block.begin) * s.out_channels + first;
                product(a, b, c, a_offsets, b_offsets);
            }
    }
}

void WeightGradient::operator()(std::int64_t batch, const float* input, const float* output_gradient,
                                bool accumulate, float* gradient) const {
    const std::int64_t count = shape_.weight_count();
    const std::int64_t chunk_count = chunks(batch);
    const std::int64_t pixels = images_per_portion_ * rows_per_portion_ * shape_.out_width();
    const Scratch partials(chunk_count > 1 ? chunk_count * count : 0);
    const auto blocks = std::ssize(blocks_);
    parallel_for(chunk_count * blocks, [&](std::int64_t task) {
        const std::int64_t chunk = task / blocks;
        const ChannelBlock& block = blocks_[static_cast<std::size_t>(task % blocks)];
        const Scratch scratch(images_per_portion_ * image_stride_ + channel_block * shape_.width +
                              pixels * column_width_);
        float* sums = chunk_count > 1 ? partials.data() + chunk * count : gradient;
        const Range range = chunk_range(portions(batch), chunk_count, chunk);
        for (std::int64_t i = range.begin; i < range.end; ++i) {
            const bool add = i != range.begin || (chunk_count == 1 && accumulate);
            add_portion(portion(batch, i), block, input, output_gradient, add, sums, scratch.data());
        }
    });
    if (chunk_count == 1) return;
    constexpr std::int64_t piece = 16 * 1024;
    parallel_for(divide_up(count, piece), [&](std::int64_t part) {
        const std::int64_t begin = part * piece;
        const std::int64_t end = std::min(begin + piece, count);
        if (!accumulate) std::fill(gradient + begin, gradient + end, 0.0F);
        for (std::int64_t chunk = 0; chunk < chunk_count; ++chunk) {
            const float* partial = partials.data() + chunk * count;
            for (std::int64_t i = begin; i < end; ++i) gradient[i] += partial[i];
        }
    });
}

}  // namespace jevrin
