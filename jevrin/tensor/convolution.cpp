#include "jevrin/tensor/convolution.hpp"

#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <cassert>
#include <type_traits>

namespace jevrin::inline v1 {
namespace {

// With fewer the weight gradient gains nothing by transformed tiles.
constexpr std::int64_t fewest_gradient_channels = 64;

// One axis of the data gradient: the input places first, first + stride, ... and what reaches them.
struct PhaseAxis {
    std::int64_t count = 0;
    std::vector<std::int64_t> offsets;  // of output places
    std::vector<std::int64_t> taps;     // kernel places
};

// Input place first + stride * j gets kernel place k from output place j + (first + pad - k * dilation) /
// stride, exactly when the division leaves nothing.
PhaseAxis phase_axis(std::int64_t first, std::int64_t size, std::int64_t kernel, std::int64_t stride,
                     std::int64_t dilation, std::int64_t pad) {
    PhaseAxis axis{.count = (size - first + stride - 1) / stride};
    for (std::int64_t k = 0; k < kernel; ++k) {
        const std::int64_t reach = first + pad - k * dilation;
        if (reach % stride != 0) continue;
        axis.offsets.push_back(reach / stride);
        axis.taps.push_back(k);
    }
    return axis;
}

}  // namespace

ConvolutionKernel::ConvolutionKernel(const ConvolutionShape& shape, ProductForm form, bool winograd)
    : shape_(shape) {
    const ConvolutionShape& s = shape_;
    assert(s.out_height() > 0 && s.out_width() > 0);
    assert(s.in_channels % s.groups == 0 && s.out_channels % s.groups == 0);
    if (shape_.is_depthwise()) {
        depthwise_ = DepthwiseKernel(s);
        return;
    }
    const bool transformed = winograd && winograd_serves(s);
    if (transformed)
        winograd_ = {.forward = WinogradSum(WinogradShape::of(s), false, form),
                     .data = WinogradSum(WinogradShape::of_data_gradient(s), true, form)};
    choose_weight_gradient(form);
    if (transformed) return;
    TapSumShape sum{.height = s.height,
                    .width = s.width,
                    .groups = s.groups,
                    .depth = s.in_channels / s.groups,
                    .columns = s.out_channels / s.groups,
                    .out_height = s.out_height(),
                    .out_width = s.out_width(),
                    .pixel_stride = s.out_channels,
                    .row_stride = s.out_width() * s.out_channels,
                    .image_stride = s.out_height() * s.out_width() * s.out_channels,
                    .row_step = s.stride_height,
                    .column_step = s.stride_width};
    for (std::int64_t k = 0; k < s.kernel_height; ++k)
        sum.row_offsets.push_back(k * s.dilation_height - s.pad_top);
    for (std::int64_t k = 0; k < s.kernel_width; ++k)
        sum.column_offsets.push_back(k * s.dilation_width - s.pad_left);
    forward_ = TapSum(sum, form);
    for (std::int64_t row = 0; row < std::min(s.stride_height, s.height); ++row)
        for (std::int64_t column = 0; column < std::min(s.stride_width, s.width); ++column)
            add_phase(row, column, form);
}

void ConvolutionKernel::choose_weight_gradient(ProductForm form) {
    const ConvolutionShape& s = shape_;
    if (winograd_ && std::min(s.in_channels, s.out_channels) >= fewest_gradient_channels)
        weights_.emplace<WinogradWeightGradient>(WinogradShape::of(s), form);
    else if (s.is_pointwise())
        weights_.emplace<RowGradient>(s.in_channels, s.out_channels, form);
    else if (TapGradient::serves(s))
        weights_.emplace<TapGradient>(s, form);
    else
        weights_.emplace<WeightGradient>(s, form);
}

void ConvolutionKernel::add_phase(std::int64_t row, std::int64_t column, ProductForm form) {
    const ConvolutionShape& s = shape_;
    const PhaseAxis rows =
        phase_axis(row, s.height, s.kernel_height, s.stride_height, s.dilation_height, s.pad_top);
    const PhaseAxis columns =
        phase_axis(column, s.width, s.kernel_width, s.stride_width, s.dilation_width, s.pad_left);
    if (rows.taps.empty() || columns.taps.empty()) {
        leaves_pixels_ = true;
        return;
    }
    const TapSumShape sum{.height = s.out_height(),
                          .width = s.out_width(),
                          .groups = s.groups,
                          .depth = s.out_channels / s.groups,
                          .columns = s.in_channels / s.groups,
                          .out_height = rows.count,
                          .out_width = columns.count,
                          .pixel_stride = s.stride_width * s.in_channels,
                          .row_stride = s.stride_height * s.width * s.in_channels,
                          .image_stride = s.height * s.width * s.in_channels,
                          .row_offsets = rows.offsets,
                          .column_offsets = columns.offsets};
    Phase phase{.sum = TapSum(sum, form), .first_pixel = (row * s.width + column) * s.in_channels};
    for (const std::int64_t ky : rows.taps)
        for (const std::int64_t kx : columns.taps) phase.taps.push_back(ky * s.kernel_width + kx);
    phases_.push_back(std::move(phase));
}

void ConvolutionKernel::forward(std::int64_t batch, const float* input, const float* weight,
                                const float* bias, const Function& activation, float* output, WeightForm form,
                                BatchStatistics* statistics) const {
    if (shape_.is_depthwise()) {
        depthwise_.forward(batch, input, weight, bias, activation, output, statistics);
        return;
    }
    if (winograd_) {
        winograd_->forward(batch, input, weight, bias, activation, false, output, form, statistics);
        return;
    }
    const bool packs = form == WeightForm::plain && laid_out_size() > 0;
    const Scratch packed(packs ? forward_.packed_size() : 0);
    if (packs) lay_out(weight, packed.data());
    forward_(batch, input, packs ? packed.data() : weight, bias, activation, false, output, statistics);
}

std::int64_t ConvolutionKernel::laid_out_size() const {
    if (shape_.is_depthwise()) return 0;
    if (winograd_) return winograd_->forward.laid_out_size();
    return forward_.blocks().size() > 1 ? forward_.packed_size() : 0;
}

void ConvolutionKernel::lay_out(const float* weight, float* laid_out) const {
    if (winograd_)
        winograd_->forward.lay_out(weight, laid_out);
    else
        pack_weight(forward_, weight, shape_.out_channels, laid_out);
}

void ConvolutionKernel::data_gradient(std::int64_t batch, const float* output_gradient, const float* weight,
                                      bool accumulate, float* input_gradient) const {
    if (shape_.is_depthwise()) {
        depthwise_.data_gradient(batch, output_gradient, weight, accumulate, input_gradient);
        return;
    }
    if (winograd_) {
        winograd_->data(batch, output_gradient, weight, nullptr, {}, accumulate, input_gradient);
        return;
    }
    if (leaves_pixels_ && !accumulate)
        for_elements(batch * shape_.height * shape_.width * shape_.in_channels,
                     [&](std::int64_t begin, std::int64_t end) {
                         std::fill(input_gradient + begin, input_gradient + end, 0.0F);
                     });
    const Scratch packed(shape_.weight_count());
    for (const Phase& phase : phases_) {
        pack_transposed_weight(phase.sum, weight, shape_.out_channels, phase.taps, packed.data());
        phase.sum(batch, output_gradient, packed.data(), nullptr, {}, accumulate,
                  input_gradient + phase.first_pixel);
    }
}

void ConvolutionKernel::weight_gradient(std::int64_t batch, const float* input, const float* output_gradient,
                                        float* weight_gradient) const {
    if (shape_.is_depthwise()) {
        depthwise_.weight_gradient(batch, input, output_gradient, weight_gradient);
        return;
    }
    std::visit(
        [&]<typename Weights>(const Weights& weights) {
            if constexpr (std::is_same_v<Weights, RowGradient>)
                weights(batch * shape_.height * shape_.width, input, output_gradient, weight_gradient);
            else
                weights(batch, input, output_gradient, weight_gradient);
        },
        weights_);
}

std::int64_t ConvolutionKernel::scratch_size() const {
    if (shape_.is_depthwise()) return depthwise_.scratch_size();
    std::int64_t size = std::visit([](const auto& weights) { return weights.scratch_size(); }, weights_);
    if (winograd_) return std::max({size, winograd_->forward.scratch_size(), winograd_->data.scratch_size()});
    size = std::max({size, shape_.weight_count(), forward_.scratch_size()});
    for (const Phase& phase : phases_) size = std::max(size, phase.sum.scratch_size());
    return size;
}

}  // namespace jevrin::inline v1
