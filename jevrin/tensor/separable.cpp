#include "jevrin/tensor/separable.hpp"

#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <cassert>
#include <cstring>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t strip_floats = 96 * 1024;     // of what lies between, to stay in a cache of 1 MB
constexpr std::int64_t cached_weights = 128 * 1024;  // floats of weights that stay in it as well
constexpr std::int64_t product_pixels = 48;          // at least, in one product
constexpr std::int64_t wanted_strips = 4;            // so that a single image has some for all threads
constexpr std::int64_t strip_pixels = 24;            // at least, in each of them

// Rows that make up enough pixels for one product.
std::int64_t product_rows(std::int64_t height, std::int64_t width) {
    return std::min(divide_up(product_pixels, width), height);
}

}  // namespace

SeparableKernel::RowProduct::RowProduct(std::int64_t image_height, std::int64_t width,
                                        std::int64_t rows_of_group, std::int64_t in, std::int64_t out,
                                        ProductForm form)
    : height(image_height),
      rows(rows_of_group),
      full(line_of_pixels(rows * width, in, out), form),
      last(line_of_pixels((height - (divide_up(height, rows) - 1) * rows) * width, in, out), form) {}

void SeparableKernel::RowProduct::operator()(std::int64_t first_row, const float* source,
                                             const SeparableTerm& term, float* output) const {
    const TapSum& sum = first_row + rows <= height ? full : last;
    sum.of_one_image(source, term.weight, term.bias, term.activation, output);
}

SeparableKernel::SeparableKernel(const SeparableShape& shape, ProductForm form)
    : shape_(shape), depthwise_(shape.depthwise) {
    assert(shape_.expands() || shape_.projects());
    const ConvolutionShape& s = shape_.depthwise;
    const std::int64_t row_floats =
        ((shape_.expands() ? s.stride_height * s.width : 0) + (shape_.projects() ? s.out_width() : 0)) *
        s.groups;
    const std::int64_t wanted = std::clamp(s.out_height() * s.out_width() / strip_pixels, std::int64_t{1},
                                           std::min(wanted_strips, s.out_height()));
    strips_ = std::max(wanted, s.out_height() * row_floats / strip_floats);
    rows_per_strip_ = divide_up(s.out_height(), strips_);
    strips_ = divide_up(s.out_height(), rows_per_strip_);
    if (shape_.projects())
        project_ =
            RowProduct(s.out_height(), s.out_width(), rows_per_strip_, s.groups, shape.out_channels, form);
    if (!shape_.expands()) return;
    expand_ =
        RowProduct(s.height, s.width, product_rows(s.height, s.width), shape.in_channels, s.groups, form);
    // The rows of a strip, and those of the products at its ends that it does not read.
    for (std::int64_t strip = 0; strip < strips_; ++strip) {
        const IndexRange read = source_rows(strip_rows(strip));
        buffer_rows_ = std::max(buffer_rows_, read.end - read.begin + 2 * (expand_.rows - 1));
    }
}

bool SeparableKernel::serves(const SeparableShape& shape) {
    const std::int64_t channels = shape.depthwise.groups;
    return std::max(shape.in_channels, shape.out_channels) > 0 &&
           (shape.in_channels + shape.out_channels) * channels <= cached_weights;
}

IndexRange SeparableKernel::strip_rows(std::int64_t strip) const {
    return {strip * rows_per_strip_, std::min((strip + 1) * rows_per_strip_, shape_.depthwise.out_height())};
}

IndexRange SeparableKernel::source_rows(IndexRange rows) const {
    IndexRange all;
    for (std::int64_t row = rows.begin; row < rows.end; ++row) {
        const IndexRange read = depthwise_.source_rows(row);
        if (read.begin == read.end) continue;
        all = all.begin == all.end ? read
                                   : IndexRange{std::min(all.begin, read.begin), std::max(all.end, read.end)};
    }
    return all;
}

// Strips of one image that follow each other: expanded rows that two of them read are computed once.
void SeparableKernel::compute_strips(const Call& call, IndexRange strips) const {
    const ConvolutionShape& s = shape_.depthwise;
    const std::int64_t expanded_row = s.width * s.groups;
    const std::int64_t filtered_row = s.out_width() * s.groups;
    const std::int64_t output_row = s.out_width() * shape_.output_channels();
    const Scratch buffer(scratch_size());
    float* filtered = buffer.data();
    float* expanded = filtered + (shape_.projects() ? rows_per_strip_ * filtered_row : 0);
    IndexRange have;  // of the expanded rows
    for (std::int64_t strip = strips.begin; strip < strips.end; ++strip) {
        const IndexRange rows = strip_rows(strip);
        const IndexRange read = source_rows(rows);
        if (shape_.expands() && read.begin < read.end) {
            if (have.end <= read.begin) {
                have.begin = have.end = read.begin / expand_.rows * expand_.rows;
            } else if (read.begin > have.begin) {
                std::memmove(
                    expanded, expanded + (read.begin - have.begin) * expanded_row,
                    static_cast<std::size_t>((have.end - read.begin) * expanded_row) * sizeof(float));
                have.begin = read.begin;
            }
            while (have.end < read.end) {
                expand_(have.end, call.input + have.end * s.width * shape_.in_channels, call.expand,
                        expanded + (have.end - have.begin) * expanded_row);
                have.end = expand_.end_of(have.end);
            }
        }
        const float* source = shape_.expands() ? expanded : call.input;
        float* out = call.output + rows.begin * output_row;
        float* rows_of_depthwise = shape_.projects() ? filtered : out;
        for (std::int64_t row = rows.begin; row < rows.end; ++row)
            depthwise_.forward_row(row, have.begin, source, call.depthwise.weight, call.depthwise.bias,
                                   call.depthwise.activation,
                                   rows_of_depthwise + (row - rows.begin) * filtered_row);
        if (shape_.projects()) project_(rows.begin, filtered, call.project, out);
        if (call.added == nullptr) continue;
        const float* added = call.added + rows.begin * output_row;
        for (std::int64_t i = 0; i < (rows.end - rows.begin) * output_row; ++i) out[i] += added[i];
    }
}

void SeparableKernel::forward(std::int64_t batch, const float* input, const SeparableTerm& expand,
                              const SeparableTerm& depthwise, const SeparableTerm& project,
                              const float* added, float* output) const {
    const ConvolutionShape& s = shape_.depthwise;
    const std::int64_t input_size = s.height * s.width * shape_.input_channels();
    const std::int64_t output_size = s.out_height() * s.out_width() * shape_.output_channels();
    // Where a part begins, expanded rows of the one before are computed again: as few as there are threads.
    const std::int64_t parts = std::min(strips_, divide_up(threads(), batch));
    parallel_for(batch * parts, [&](std::int64_t task) {
        const std::int64_t n = task / parts;
        compute_strips({input + n * input_size, expand, depthwise, project,
                        added == nullptr ? nullptr : added + n * output_size, output + n * output_size},
                       chunk_range(strips_, parts, task % parts));
    });
}

const float* SeparableKernel::pack_expansion(const float* weight, float* packed) const {
    return pack_weight(expand_.full, weight, shape_.depthwise.groups, packed);
}

const float* SeparableKernel::pack_projection(const float* weight, float* packed) const {
    return pack_weight(project_.full, weight, shape_.out_channels, packed);
}

std::int64_t SeparableKernel::scratch_size() const {
    const ConvolutionShape& s = shape_.depthwise;
    return ((shape_.projects() ? rows_per_strip_ * s.out_width() : 0) + buffer_rows_ * s.width) * s.groups;
}

}  // namespace jevrin::inline v1
