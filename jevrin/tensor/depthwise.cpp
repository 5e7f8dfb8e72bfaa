#include "jevrin/tensor/depthwise.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/pointwise.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <cassert>
#include <cstring>
#include <optional>
#include <type_traits>
#include <utility>

namespace jevrin::inline v1 {
namespace {

typedef float SixteenFloats __attribute__((vector_size(16 * sizeof(float))));
typedef float EightFloats __attribute__((vector_size(8 * sizeof(float))));

// Some channels side by side: so many vectors, or a single number.
template <typename ValueOf, int count_of>
struct Channels {
    using Value = ValueOf;
    static constexpr int count = count_of;
    static constexpr std::int64_t lanes = sizeof(Value) / sizeof(float);
    static constexpr std::int64_t width = count * lanes;

    static Value load(const float* from) {
        Value v;
        std::memcpy(&v, from, sizeof(v));
        return v;
    }
    static void store(const Value& v, float* to) { std::memcpy(to, &v, sizeof(v)); }
};

// Sums over the batch are cut into this many chunks of images, added in order.
constexpr std::int64_t sum_chunks = 8;
// How much longer an element takes than in loops that pass over memory once.
constexpr std::int64_t work_per_element = 4;

// Calls body(Channels(), first channel) for blocks of 64 channels and fewer, until none are left.
template <typename Body>
void for_channel_blocks(std::int64_t channels, Body body) {
    std::int64_t c = 0;
    const auto blocks_of = [&](auto block) {
        for (; c + block.width <= channels; c += block.width) body(block, c);
    };
    blocks_of(Channels<SixteenFloats, 4>());
    blocks_of(Channels<SixteenFloats, 2>());
    blocks_of(Channels<SixteenFloats, 1>());
    blocks_of(Channels<EightFloats, 1>());
    blocks_of(Channels<float, 1>());
}

}  // namespace

DepthwiseKernel::DepthwiseKernel(const ConvolutionShape& shape) : shape_(shape) {
    const ConvolutionShape& s = shape_;
    assert(s.in_channels == s.groups && s.out_channels == s.groups);
    const auto link = [](std::int64_t in, std::int64_t out, std::int64_t kernel, std::int64_t stride,
                         std::int64_t dilation, std::int64_t pad, Axis& forward, Axis& backward) {
        Links to_input(static_cast<std::size_t>(out));
        Links to_output(static_cast<std::size_t>(in));
        for (std::int64_t o = 0; o < out; ++o)
            for (std::int64_t k = 0; k < kernel; ++k) {
                const std::int64_t i = o * stride + k * dilation - pad;
                if (i < 0 || i >= in) continue;
                to_input[static_cast<std::size_t>(o)].push_back({k, i});
                to_output[static_cast<std::size_t>(i)].push_back({k, o});
            }
        forward = grouped(std::move(to_input));
        backward = grouped(std::move(to_output));
    };
    link(s.height, s.out_height(), s.kernel_height, s.stride_height, s.dilation_height, s.pad_top,
         forward_rows_, backward_rows_);
    link(s.width, s.out_width(), s.kernel_width, s.stride_width, s.dilation_width, s.pad_left,
         forward_columns_, backward_columns_);
}

// Neighbours whose links differ by a fixed step of their sources are computed together: they share weights.
DepthwiseKernel::Axis DepthwiseKernel::grouped(Links links) {
    Axis axis{std::move(links), {}};
    const auto size = axis.links.size();
    const auto step_between = [&](std::size_t a, std::size_t b) -> std::int64_t {
        const std::vector<Link>& left = axis.links[a];
        const std::vector<Link>& right = axis.links[b];
        if (left.size() != right.size() || left.empty()) return 0;
        const std::int64_t step = right[0].source - left[0].source;
        for (std::size_t k = 0; k < left.size(); ++k)
            if (left[k].kernel != right[k].kernel || right[k].source - left[k].source != step) return 0;
        return step;
    };
    for (std::size_t x = 0; x < size;) {
        bool together = x + group_places <= size;
        const std::int64_t step = together ? step_between(x, x + 1) : 0;
        for (std::size_t next = x + 1; together && next < x + group_places; ++next)
            together = step > 0 && step_between(next - 1, next) == step;
        axis.groups.push_back({static_cast<std::int64_t>(x), together ? group_places : 1, step});
        x += together ? group_places : 1;
    }
    return axis;
}

// target(x) (+)= the sum over the linked places of source * weight, for the places of one row.
void DepthwiseKernel::sum_row(const Source& source, const std::vector<Link>& row_links, const Axis& columns,
                              const float* weight, bool accumulate, float* target) const {
    const std::int64_t channels = shape_.groups;
    const auto sum_group = [&](auto places, const Group& group) {
        constexpr int count = decltype(places)::value;
        const std::vector<Link>& column_links = columns.links[static_cast<std::size_t>(group.first)];
        float* pixels = target + group.first * channels;
        const std::int64_t step = group.step * channels;
        for_channel_blocks(channels, [&](auto block, std::int64_t c) {
            using Block = decltype(block);
            typename Block::Value sums[count][Block::count] = {};
            for (const Link& r : row_links)
                for (const Link& k : column_links) {
                    const float* in = source.rows +
                                      ((r.source - source.first_row) * source.width + k.source) * channels +
                                      c;
                    const float* w = weight + (r.kernel * shape_.kernel_width + k.kernel) * channels + c;
                    for (int v = 0; v < Block::count; ++v) {
                        const auto factor = Block::load(w + v * Block::lanes);
                        for (int p = 0; p < count; ++p)
                            sums[p][v] += Block::load(in + p * step + v * Block::lanes) * factor;
                    }
                }
            for (int p = 0; p < count; ++p)
                for (int v = 0; v < Block::count; ++v) {
                    float* out = pixels + p * channels + c + v * Block::lanes;
                    if (accumulate) sums[p][v] += Block::load(out);
                    Block::store(sums[p][v], out);
                }
        });
    };
    // Along the row, all channels of a group before the next: memory is read as it lies.
    for (const Group& group : columns.groups)
        if (group.places > 1)
            sum_group(std::integral_constant<int, group_places>(), group);
        else
            sum_group(std::integral_constant<int, 1>(), group);
}

// All rows of all images, each followed by finish(row).
template <typename Finish>
void DepthwiseKernel::sum_links(std::int64_t batch, Size source_size, const float* source, const Axis& rows,
                                const Axis& columns, const float* weight, bool accumulate, float* target,
                                const Finish& finish) const {
    const std::int64_t channels = shape_.groups;
    const std::int64_t width = std::ssize(columns.links);
    const std::int64_t height = std::ssize(rows.links);
    for_rows(batch * height, width * channels * work_per_element, [&](std::int64_t row) {
        const float* image = source + row / height * source_size.height * source_size.width * channels;
        sum_row({image, 0, source_size.width}, rows.links[static_cast<std::size_t>(row % height)], columns,
                weight, accumulate, target + row * width * channels);
        finish(row);
    });
}

void DepthwiseKernel::forward(std::int64_t batch, const float* input, const float* weight, const float* bias,
                              const Function& activation, float* output, BatchStatistics* statistics) const {
    const std::int64_t width = shape_.out_width();
    const std::int64_t channels = shape_.groups;
    std::optional<ChannelSums> sums;
    if (statistics != nullptr) sums.emplace(batch * shape_.out_height(), channels);
    sum_links(batch, {shape_.height, shape_.width}, input, forward_rows_, forward_columns_, weight, false,
              output, [&](std::int64_t row) {
                  apply_to_rows(activation, bias, width, channels, channels, output + row * width * channels);
                  if (sums) sums->add(row, {row * width, (row + 1) * width}, {0, channels}, output);
              });
    if (sums) sums->finish(*statistics);
}

void DepthwiseKernel::forward_row(std::int64_t row, std::int64_t first_row, const float* source,
                                  const float* weight, const float* bias, const Function& activation,
                                  float* output) const {
    sum_row({source, first_row, shape_.width}, forward_rows_.links[static_cast<std::size_t>(row)],
            forward_columns_, weight, false, output);
    apply_to_rows(activation, bias, shape_.out_width(), shape_.groups, shape_.groups, output);
}

IndexRange DepthwiseKernel::source_rows(std::int64_t row) const {
    const std::vector<Link>& links = forward_rows_.links[static_cast<std::size_t>(row)];
    return links.empty() ? IndexRange{} : IndexRange{links.front().source, links.back().source + 1};
}

void DepthwiseKernel::data_gradient(std::int64_t batch, const float* output_gradient, const float* weight,
                                    bool accumulate, float* input_gradient) const {
    sum_links(batch, {shape_.out_height(), shape_.out_width()}, output_gradient, backward_rows_,
              backward_columns_, weight, accumulate, input_gradient, [](std::int64_t) {});
}

void DepthwiseKernel::weight_gradient(std::int64_t batch, const float* input, const float* output_gradient,
                                      float* weight_gradient) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t channels = s.groups;
    const std::int64_t size = s.weight_count();
    const std::int64_t chunks = std::min(batch, sum_chunks);
    const Scratch partials(chunks * size);
    parallel_for(chunks, [&](std::int64_t chunk) {
        float* partial = partials.data() + chunk * size;
        std::fill_n(partial, size, 0.0F);
        const IndexRange images = chunk_range(batch, chunks, chunk);
        for (std::int64_t row = images.begin * s.out_height(); row < images.end * s.out_height(); ++row) {
            const float* image = input + row / s.out_height() * s.height * s.width * channels;
            const float* gradients = output_gradient + row * s.out_width() * channels;
            for (const Link& r : forward_rows_.links[static_cast<std::size_t>(row % s.out_height())]) {
                const float* pixels = image + r.source * s.width * channels;
                float* sums = partial + r.kernel * s.kernel_width * channels;
                std::int64_t k = 0;
                for (; k + 5 <= s.kernel_width; k += 5) add_row<5>(pixels, gradients, k, sums);
                for (; k + 3 <= s.kernel_width; k += 3) add_row<3>(pixels, gradients, k, sums);
                for (; k < s.kernel_width; ++k) add_row<1>(pixels, gradients, k, sums);
            }
        }
    });
    std::copy_n(partials.data(), size, weight_gradient);
    for (std::int64_t chunk = 1; chunk < chunks; ++chunk)
        for (std::int64_t i = 0; i < size; ++i) weight_gradient[i] += partials.data()[chunk * size + i];
}

// sums(kernel column) += gradients * pixels over a row, for some kernel columns from first on; the sums of a
// row stay in registers.
template <int columns>
void DepthwiseKernel::add_row(const float* pixels, const float* gradients, std::int64_t first,
                              float* sums) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t channels = s.groups;
    for_channel_blocks(channels, [&](auto block, std::int64_t c) {
        using Block = decltype(block);
        typename Block::Value sum[columns][Block::count] = {};
        for (std::int64_t x = 0; x < s.out_width(); ++x) {
            const float* g = gradients + x * channels + c;
            typename Block::Value gradient[Block::count];
            for (int v = 0; v < Block::count; ++v) gradient[v] = Block::load(g + v * Block::lanes);
            for (int k = 0; k < columns; ++k) {
                const std::int64_t at = x * s.stride_width + (first + k) * s.dilation_width - s.pad_left;
                if (at < 0 || at >= s.width) continue;
                const float* in = pixels + at * channels + c;
                for (int v = 0; v < Block::count; ++v)
                    sum[k][v] += Block::load(in + v * Block::lanes) * gradient[v];
            }
        }
        for (int k = 0; k < columns; ++k) {
            float* to = sums + (first + k) * channels + c;
            for (int v = 0; v < Block::count; ++v)
                Block::store(Block::load(to + v * Block::lanes) + sum[k][v], to + v * Block::lanes);
        }
    });
}

std::int64_t DepthwiseKernel::scratch_size() const {
    return sum_chunks * shape_.weight_count();
}

}  // namespace jevrin::inline v1
