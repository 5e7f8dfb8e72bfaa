#include "jevrin/tensor/depthwise.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <cassert>
#include <cstring>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t lanes = 16;
typedef float Vector __attribute__((vector_size(lanes * sizeof(float))));

Vector load(const float* from) {
    Vector v;
    std::memcpy(&v, from, sizeof(v));
    return v;
}
void store(const Vector& v, float* to) {
    std::memcpy(to, &v, sizeof(v));
}

// Sums over the batch are cut into this many chunks of images, added in order.
constexpr std::int64_t sum_chunks = 8;

// Calls body(vectors of channels, first channel) for blocks of 64, 32 and 16 channels and for single ones.
template <typename Body>
void for_channel_blocks(std::int64_t channels, Body body) {
    std::int64_t c = 0;
    for (; c + 4 * lanes <= channels; c += 4 * lanes) body(std::integral_constant<int, 4>(), c);
    for (; c + 2 * lanes <= channels; c += 2 * lanes) body(std::integral_constant<int, 2>(), c);
    for (; c + lanes <= channels; c += lanes) body(std::integral_constant<int, 1>(), c);
    for (; c < channels; ++c) body(std::integral_constant<int, 0>(), c);
}

}  // namespace

DepthwiseKernel::DepthwiseKernel(const ConvolutionShape& shape) : shape_(shape) {
    const ConvolutionShape& s = shape_;
    assert(s.in_channels == s.groups && s.out_channels == s.groups);
    const auto link = [](std::int64_t in, std::int64_t out, std::int64_t kernel, std::int64_t stride,
                         std::int64_t dilation, std::int64_t pad, Links& forward, Links& backward) {
        forward.resize(static_cast<std::size_t>(out));
        backward.resize(static_cast<std::size_t>(in));
        for (std::int64_t o = 0; o < out; ++o)
            for (std::int64_t k = 0; k < kernel; ++k) {
                const std::int64_t i = o * stride + k * dilation - pad;
                if (i < 0 || i >= in) continue;
                forward[static_cast<std::size_t>(o)].push_back({k, i});
                backward[static_cast<std::size_t>(i)].push_back({k, o});
            }
    };
    link(s.height, s.out_height(), s.kernel_height, s.stride_height, s.dilation_height, s.pad_top,
         forward_rows_, backward_rows_);
    link(s.width, s.out_width(), s.kernel_width, s.stride_width, s.dilation_width, s.pad_left,
         forward_columns_, backward_columns_);
}

// target(y, x) (+)= the sum over the linked places of source * weight.
void DepthwiseKernel::sum_links(std::int64_t batch, Size source_size, const float* source, const Links& rows,
                                const Links& columns, const float* weight, bool accumulate,
                                float* target) const {
    const std::int64_t channels = shape_.groups;
    const std::int64_t width = std::ssize(columns);
    const std::int64_t height = std::ssize(rows);
    for_rows(batch * height, width * channels, [&](std::int64_t row) {
        const float* image = source + row / height * source_size.height * source_size.width * channels;
        const std::vector<Link>& row_links = rows[static_cast<std::size_t>(row % height)];
        // Along the row, all channels of a pixel before the next: memory is read as it lies.
        for (std::int64_t x = 0; x < width; ++x) {
            const std::vector<Link>& column_links = columns[static_cast<std::size_t>(x)];
            float* pixel = target + (row * width + x) * channels;
            for_channel_blocks(channels, [&](auto vectors, std::int64_t c) {
                constexpr int count = decltype(vectors)::value;
                float* out = pixel + c;
                Vector sums[std::max(count, 1)] = {};
                float sum = 0.0F;
                for (const Link& r : row_links)
                    for (const Link& k : column_links) {
                        const float* in = image + (r.source * source_size.width + k.source) * channels + c;
                        const float* w = weight + (r.kernel * shape_.kernel_width + k.kernel) * channels + c;
                        if constexpr (count == 0)
                            sum += *in * *w;
                        else
                            for (int v = 0; v < count; ++v)
                                sums[v] += load(in + v * lanes) * load(w + v * lanes);
                    }
                if constexpr (count == 0)
                    *out = accumulate ? *out + sum : sum;
                else
                    for (int v = 0; v < count; ++v) {
                        if (accumulate) sums[v] += load(out + v * lanes);
                        store(sums[v], out + v * lanes);
                    }
            });
        }
    });
}

void DepthwiseKernel::forward(std::int64_t batch, const float* input, const float* weight,
                              float* output) const {
    sum_links(batch, {shape_.height, shape_.width}, input, forward_rows_, forward_columns_, weight, false,
              output);
}

void DepthwiseKernel::data_gradient(std::int64_t batch, const float* output_gradient, const float* weight,
                                    bool accumulate, float* input_gradient) const {
    sum_links(batch, {shape_.out_height(), shape_.out_width()}, output_gradient, backward_rows_,
              backward_columns_, weight, accumulate, input_gradient);
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
            for (const Link& r : forward_rows_[static_cast<std::size_t>(row % s.out_height())]) {
                const float* pixels = image + r.source * s.width * channels;
                float* sums = partial + r.kernel * s.kernel_width * channels;
                std::int64_t k = 0;
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
    for_channel_blocks(channels, [&](auto vectors, std::int64_t c) {
        constexpr int count = decltype(vectors)::value;
        Vector sum[columns][std::max(count, 1)] = {};
        float single[columns] = {};
        for (std::int64_t x = 0; x < s.out_width(); ++x) {
            const float* g = gradients + x * channels + c;
            Vector gradient[std::max(count, 1)];
            for (int v = 0; v < count; ++v) gradient[v] = load(g + v * lanes);
            for (int k = 0; k < columns; ++k) {
                const std::int64_t at = x * s.stride_width + (first + k) * s.dilation_width - s.pad_left;
                if (at < 0 || at >= s.width) continue;
                const float* in = pixels + at * channels + c;
                if constexpr (count == 0)
                    single[k] += *in * *g;
                else
                    for (int v = 0; v < count; ++v) sum[k][v] += load(in + v * lanes) * gradient[v];
            }
        }
        for (int k = 0; k < columns; ++k) {
            float* to = sums + (first + k) * channels + c;
            if constexpr (count == 0)
                *to += single[k];
            else
                for (int v = 0; v < count; ++v) store(load(to + v * lanes) + sum[k][v], to + v * lanes);
        }
    });
}

std::int64_t DepthwiseKernel::scratch_size() const {
    return sum_chunks * shape_.weight_count();
}

}  // namespace jevrin::inline v1
