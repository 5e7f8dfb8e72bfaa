#include "jevrin/tensor/dense.hpp"

#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <array>

namespace jevrin::inline v1 {
namespace {

// Rows are computed in blocks, most of them in large ones and the rest in small ones, each an image of the
// engines, a line of pixels. A row gets the same bits in both, and in every batch.
constexpr std::int64_t large_block = 48;
constexpr std::int64_t narrow_columns = 16;  // which the kernels sum in another way when rows are few

std::int64_t small_block(const TapSum& large) {
    const bool narrow = std::ranges::any_of(
        large.blocks(), [](const TapSum::ColumnBlock& block) { return block.width <= narrow_columns; });
    return narrow ? 16 : 4;
}

}  // namespace

RowProducts::RowProducts(std::int64_t in, std::int64_t out, ProductForm form)
    : large_(line_of_pixels(large_block, in, out), form),
      small_rows_(small_block(large_)),
      small_(line_of_pixels(small_rows_, in, out), form) {}

void RowProducts::operator()(std::int64_t rows, const float* input, const float* packed, const float* bias,
                             const Function& activation, bool accumulate, float* output) const {
    const std::int64_t in = layout().shape().depth;
    const std::int64_t out = layout().shape().columns;
    const std::int64_t large = rows / large_block;
    if (large > 0) large_(large, input, packed, bias, activation, accumulate, output);
    const std::int64_t done = large * large_block;
    const std::int64_t small = (rows - done) / small_rows_;
    input += done * in;
    output += done * out;
    if (small > 0) small_(small, input, packed, bias, activation, accumulate, output);
    const std::int64_t rest = rows - done - small * small_rows_;
    if (rest == 0) return;
    // The rows that do not fill a block, followed by zeros.
    input += small * small_rows_ * in;
    output += small * small_rows_ * out;
    const Scratch tail(small_rows_ * (in + out));
    float* result = tail.data() + small_rows_ * in;
    std::copy_n(input, rest * in, tail.data());
    std::fill_n(tail.data() + rest * in, (small_rows_ - rest) * in, 0.0F);
    small_(1, tail.data(), packed, bias, activation, false, result);
    if (accumulate)
        for (std::int64_t i = 0; i < rest * out; ++i) output[i] += result[i];
    else
        std::copy_n(result, rest * out, output);
}

std::int64_t RowProducts::scratch_size() const {
    const TapSumShape& s = layout().shape();
    return std::max({small_rows_ * (s.depth + s.columns), large_.scratch_size(), small_.scratch_size()});
}

DenseKernel::DenseKernel(std::int64_t in, std::int64_t out, ProductForm form)
    : in_(in), out_(out), forward_(in, out, form), data_(out, in, form), weight_(in, out, form) {}

void DenseKernel::forward(std::int64_t rows, const float* input, const float* weight, const float* bias,
                          const Function& activation, float* output, WeightForm form) const {
    const bool packs = form == WeightForm::plain && laid_out_size() > 0;
    const Scratch packed(packs ? laid_out_size() : 0);
    if (packs) lay_out(weight, packed.data());
    forward_(rows, input, packs ? packed.data() : weight, bias, activation, false, output);
}

std::int64_t DenseKernel::laid_out_size() const {
    return forward_.layout().blocks().size() > 1 ? in_ * out_ : 0;
}

void DenseKernel::lay_out(const float* weight, float* laid_out) const {
    pack_weight(forward_.layout(), weight, out_, laid_out);
}

void DenseKernel::data_gradient(std::int64_t rows, const float* output_gradient, const float* weight,
                                bool accumulate, float* input_gradient) const {
    const Scratch packed(in_ * out_);
    pack_transposed_weight(data_.layout(), weight, out_, std::array<std::int64_t, 1>{0}, packed.data());
    data_(rows, output_gradient, packed.data(), nullptr, {}, accumulate, input_gradient);
}

void DenseKernel::weight_gradient(std::int64_t rows, const float* input, const float* output_gradient,
                                  float* weight_gradient) const {
    weight_(rows, input, output_gradient, weight_gradient);
}

std::int64_t DenseKernel::scratch_size() const {
    return std::max({in_ * out_, forward_.scratch_size(), data_.scratch_size(), weight_.scratch_size()});
}

}  // namespace jevrin::inline v1
