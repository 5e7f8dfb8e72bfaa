#include "jevrin/tensor/convolution.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <cassert>
#include <cstring>

namespace jevrin {
namespace {

constexpr int padding_slot = 0;
constexpr int weight_slot = 1;
constexpr int partial_slot = 2;

// Sums over the batch are cut into this many chunks of images, added in order.
constexpr std::int64_t weight_chunks = 4;

std::int64_t floor_divide(std::int64_t a, std::int64_t b) {
    return a >= 0 ? a / b : -((-a + b - 1) / b);
}

// Copies an image [height, width, channels] into the middle of zeros.
void pad_image(const float* image, std::int64_t height, std::int64_t width, std::int64_t channels,
               std::int64_t top, std::int64_t left, std::int64_t padded_height, std::int64_t padded_width,
               float* padded) {
    const std::int64_t row = padded_width * channels;
    for (std::int64_t y = 0; y < padded_height; ++y) {
        float* out = padded + y * row;
        if (y < top || y >= top + height) {
            std::fill_n(out, row, 0.0F);
            continue;
        }
        const std::int64_t copied = std::min(width, padded_width - left) * channels;
        std::fill_n(out, left * channels, 0.0F);
        std::copy_n(image + (y - top) * width * channels, copied, out + left * channels);
        std::fill_n(out + left * channels + copied, row - left * channels - copied, 0.0F);
    }
}

void add_bias_and_activate(float* row, std::int64_t pixels, std::int64_t channels, const float* bias,
                           Activation activation) {
    for (std::int64_t x = 0; x < pixels; ++x) {
        float* pixel = row + x * channels;
        if (bias != nullptr)
            for (std::int64_t c = 0; c < channels; ++c) pixel[c] += bias[c];
        if (activation == Activation::relu)
            for (std::int64_t c = 0; c < channels; ++c) pixel[c] = std::max(pixel[c], 0.0F);
    }
}

}  // namespace

ConvolutionKernel::ConvolutionKernel(const ConvolutionShape& shape, ProductForm form) : shape_(shape) {
    const ConvolutionShape& s = shape_;
    assert(s.out_height() > 0 && s.out_width() > 0);
    padded_height_ = s.height + s.pad_top + s.pad_bottom;
    padded_width_ = s.width + s.pad_left + s.pad_right;
    needs_padding_ = padded_height_ != s.height || padded_width_ != s.width;

    const std::int64_t tap_size = s.in_channels * s.out_channels;
    for (std::int64_t ky = 0; ky < s.kernel_height; ++ky)
        for (std::int64_t kx = 0; kx < s.kernel_width; ++kx) {
            forward_inputs_.push_back(static_cast<std::uint64_t>((ky * padded_width_ + kx) * s.in_channels));
            forward_weights_.push_back(static_cast<std::uint64_t>((ky * s.kernel_width + kx) * tap_size));
        }
    forward_ = SumOfProducts({.rows = s.out_width(),
                              .columns = s.out_channels,
                              .depth = s.in_channels,
                              .a_stride = s.stride_width * s.in_channels,
                              .b_stride = s.out_channels,
                              .c_stride = s.out_channels},
                             form);

    ProductShape weights{.rows = s.in_channels,
                         .columns = s.out_channels,
                         .depth = s.out_width(),
                         .a_stride = s.stride_width * s.in_channels,
                         .b_stride = s.out_channels,
                         .c_stride = s.out_channels,
                         .a_transposed = true};
    weight_replace_ = SumOfProducts(weights, form);
    weights.accumulate = true;
    weight_accumulate_ = SumOfProducts(weights, form);

    // Input column ix = phase + stride * j gets tap kx exactly when stride divides ix + pad - kx.
    for (std::int64_t phase = 0; phase < std::min(s.stride_width, s.width); ++phase) {
        ColumnPhase p{.first_column = phase,
                      .columns = (s.width - phase + s.stride_width - 1) / s.stride_width};
        for (std::int64_t kx = 0; kx < s.kernel_width; ++kx)
            if ((phase + s.pad_left - kx) % s.stride_width == 0) p.taps.push_back(kx);
        ProductShape product{.rows = p.columns,
                             .columns = s.in_channels,
                             .depth = s.out_channels,
                             .a_stride = s.out_channels,
                             .b_stride = s.in_channels,
                             .c_stride = s.stride_width * s.in_channels};
        p.replace = SumOfProducts(product, form);
        product.accumulate = true;
        p.accumulate = SumOfProducts(product, form);
        phases_.push_back(std::move(p));
    }
    const auto margin_before = [](std::int64_t pad, std::int64_t kernel, std::int64_t stride) {
        return std::max<std::int64_t>(0, -floor_divide(pad - (kernel - 1), stride));
    };
    const auto extent = [](std::int64_t size, std::int64_t pad, std::int64_t stride, std::int64_t out,
                           std::int64_t before) {
        // One column more than the last input pixel reaches, since a phase may run one step past the edge.
        return before + std::max(out, (size - 1 + pad) / stride + 2);
    };
    gradient_margin_top_ = margin_before(s.pad_top, s.kernel_height, s.stride_height);
    gradient_margin_left_ = margin_before(s.pad_left, s.kernel_width, s.stride_width);
    gradient_height_ = extent(s.height, s.pad_top, s.stride_height, s.out_height(), gradient_margin_top_);
    gradient_width_ = extent(s.width, s.pad_left, s.stride_width, s.out_width(), gradient_margin_left_);
}

const float* ConvolutionKernel::padded_input(const float* image) const {
    if (!needs_padding_) return image;
    const ConvolutionShape& s = shape_;
    float* padded = scratch(padded_height_ * padded_width_ * s.in_channels, padding_slot);
    pad_image(image, s.height, s.width, s.in_channels, s.pad_top, s.pad_left, padded_height_, padded_width_,
              padded);
    return padded;
}

void ConvolutionKernel::forward(std::int64_t batch, const float* input, const float* weight,
                                const float* bias, Activation activation, float* output) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t out_row = s.out_width() * s.out_channels;
    parallel_for(batch, [&](std::int64_t n) {
        const float* padded = padded_input(input + n * s.height * s.width * s.in_channels);
        float* image = output + n * s.out_height() * out_row;
        for (std::int64_t y = 0; y < s.out_height(); ++y) {
            const float* top = padded + y * s.stride_height * padded_width_ * s.in_channels;
            forward_(top, weight, image + y * out_row, forward_inputs_, forward_weights_);
            add_bias_and_activate(image + y * out_row, s.out_width(), s.out_channels, bias, activation);
        }
    });
}

void ConvolutionKernel::data_gradient(std::int64_t batch, const float* output_gradient, const float* weight,
                                      bool accumulate, float* input_gradient) const {
    const ConvolutionShape& s = shape_;
    float* transposed = scratch(s.weight_count(), weight_slot);  // [kernel_height, kernel_width, out, in]
    const std::int64_t taps = s.kernel_height * s.kernel_width;
    parallel_for(taps, [&](std::int64_t tap) {
        const float* from = weight + tap * s.in_channels * s.out_channels;
        float* to = transposed + tap * s.in_channels * s.out_channels;
        for (std::int64_t o = 0; o < s.out_channels; ++o)
            for (std::int64_t i = 0; i < s.in_channels; ++i)
                to[o * s.in_channels + i] = from[i * s.out_channels + o];
    });
    parallel_for(batch, [&](std::int64_t n) {
        image_data_gradient(output_gradient + n * s.out_height() * s.out_width() * s.out_channels, transposed,
                            accumulate, input_gradient + n * s.height * s.width * s.in_channels);
    });
}

void ConvolutionKernel::image_data_gradient(const float* output_gradient, const float* transposed_weight,
                                            bool accumulate, float* input_gradient) const {
    const ConvolutionShape& s = shape_;
    float* padded = scratch(gradient_height_ * gradient_width_ * s.out_channels, padding_slot);
    pad_image(output_gradient, s.out_height(), s.out_width(), s.out_channels, gradient_margin_top_,
              gradient_margin_left_, gradient_height_, gradient_width_, padded);

    thread_local std::vector<std::uint64_t> gradients;
    thread_local std::vector<std::uint64_t> weights;
    for (std::int64_t y = 0; y < s.height; ++y)
        for (const ColumnPhase& phase : phases_) {
            gradients.clear();
            weights.clear();
            for (std::int64_t ky = 0; ky < s.kernel_height; ++ky) {
                const std::int64_t reach = y + s.pad_top - ky;
                if (reach % s.stride_height != 0) continue;
                const std::int64_t row = reach / s.stride_height + gradient_margin_top_;
                for (const std::int64_t kx : phase.taps) {
                    const std::int64_t column =
                        (phase.first_column + s.pad_left - kx) / s.stride_width + gradient_margin_left_;
                    gradients.push_back(
                        static_cast<std::uint64_t>((row * gradient_width_ + column) * s.out_channels));
                    weights.push_back(static_cast<std::uint64_t>((ky * s.kernel_width + kx) * s.in_channels *
                                                                 s.out_channels));
                }
            }
            float* out = input_gradient + (y * s.width + phase.first_column) * s.in_channels;
            if (!gradients.empty()) {
                const SumOfProducts& product = accumulate ? phase.accumulate : phase.replace;
                product(padded, transposed_weight, out, gradients, weights);
            } else if (!accumulate) {
                for (std::int64_t j = 0; j < phase.columns; ++j)
                    std::fill_n(out + j * s.stride_width * s.in_channels, s.in_channels, 0.0F);
            }
        }
}

void ConvolutionKernel::weight_gradient(std::int64_t batch, const float* input, const float* output_gradient,
                                        float* weight_gradient, float* bias_gradient) const {
    const ConvolutionShape& s = shape_;
    const std::int64_t count = s.weight_count();
    const std::int64_t chunks = std::min(batch, weight_chunks);
    const std::int64_t out_row = s.out_width() * s.out_channels;
    const std::int64_t partial_size = count + s.out_channels;
    float* partials = scratch(chunks * partial_size, partial_slot);
    parallel_for(chunks, [&](std::int64_t chunk) {
        float* partial = partials + chunk * partial_size;
        float* partial_bias = partial + count;
        std::fill_n(partial_bias, s.out_channels, 0.0F);
        thread_local std::vector<std::uint64_t> inputs;
        thread_local std::vector<std::uint64_t> gradients;
        const Range images = chunk_range(batch, chunks, chunk);
        for (std::int64_t n = images.begin; n < images.end; ++n) {
            const float* padded = padded_input(input + n * s.height * s.width * s.in_channels);
            const float* gradient = output_gradient + n * s.out_height() * out_row;
            const SumOfProducts& product = n == images.begin ? weight_replace_ : weight_accumulate_;
            for (std::int64_t tap = 0; tap < s.kernel_height * s.kernel_width; ++tap) {
                inputs.clear();
                gradients.clear();
                for (std::int64_t y = 0; y < s.out_height(); ++y) {
                    inputs.push_back(
                        forward_inputs_[static_cast<std::size_t>(tap)] +
                        static_cast<std::uint64_t>(y * s.stride_height * padded_width_ * s.in_channels));
                    gradients.push_back(static_cast<std::uint64_t>(y * out_row));
                }
                product(padded, gradient, partial + tap * s.in_channels * s.out_channels, inputs, gradients);
            }
            if (bias_gradient == nullptr) continue;
            for (std::int64_t pixel = 0; pixel < s.out_height() * s.out_width(); ++pixel)
                for (std::int64_t c = 0; c < s.out_channels; ++c)
                    partial_bias[c] += gradient[pixel * s.out_channels + c];
        }
    });
    const auto add_partials = [&](float* total, std::int64_t offset, std::int64_t length) {
        std::copy_n(partials + offset, length, total);
        for (std::int64_t chunk = 1; chunk < chunks; ++chunk) {
            const float* partial = partials + chunk * partial_size + offset;
            for (std::int64_t i = 0; i < length; ++i) total[i] += partial[i];
        }
    };
    add_partials(weight_gradient, 0, count);
    if (bias_gradient != nullptr) add_partials(bias_gradient, count, s.out_channels);
}

}  // namespace jevrin
