#include "jevrin/tensor/dense.hpp"

#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <array>

namespace jevrin::inline v1 {
namespace {

// Rows are always computed in blocks of this size, so that a row gets the same bits in every batch; each
// block is one image of the engines, a line of pixels.
constexpr std::int64_t row_block = 16;

TapSumShape line_product(std::int64_t in, std::int64_t out) {
    return {.height = 1,
            .width = row_block,
            .depth = in,
            .columns = out,
            .out_height = 1,
            .out_width = row_block,
            .pixel_stride = out,
            .row_stride = row_block * out,
            .image_stride = row_block * out,
            .row_offsets = {0},
            .column_offsets = {0}};
}

// The rows that do not fill a block, followed by zeros.
void copy_tail(const float* tail, std::int64_t rows, std::int64_t width, float* block) {
    std::copy_n(tail, rows * width, block);
    std::fill_n(block + rows * width, (row_block - rows) * width, 0.0F);
}

// output (+)= input * packed weight + bias.
void multiply_rows(const TapSum& sum, std::int64_t rows, const float* input, const float* packed,
                   const float* bias, bool accumulate, float* output) {
    const std::int64_t in = sum.shape().depth;
    const std::int64_t out = sum.shape().columns;
    const std::int64_t blocks = rows / row_block;
    const std::int64_t rest = rows % row_block;
    if (blocks > 0) sum(blocks, input, packed, bias, {}, accumulate, output);
    if (rest == 0) return;
    const Scratch tail(row_block * (in + out));
    float* result = tail.data() + row_block * in;
    copy_tail(input + blocks * row_block * in, rest, in, tail.data());
    sum(1, tail.data(), packed, bias, {}, false, result);
    float* target = output + blocks * row_block * out;
    if (accumulate)
        for (std::int64_t i = 0; i < rest * out; ++i) target[i] += result[i];
    else
        std::copy_n(result, rest * out, target);
}

}  // namespace

DenseKernel::DenseKernel(std::int64_t in, std::int64_t out, ProductForm form)
    : in_(in),
      out_(out),
      forward_(line_product(in, out), form),
      data_(line_product(out, in), form),
      weight_(in, out, form) {}

void DenseKernel::forward(std::int64_t rows, const float* input, const float* weight, const float* bias,
                          float* output, WeightForm form) const {
    const bool packs = form == WeightForm::plain && laid_out_size() > 0;
    const Scratch packed(packs ? forward_.packed_size() : 0);
    if (packs) lay_out(weight, packed.data());
    multiply_rows(forward_, rows, input, packs ? packed.data() : weight, bias, false, output);
}

std::int64_t DenseKernel::laid_out_size() const {
    return forward_.blocks().size() > 1 ? forward_.packed_size() : 0;
}

void DenseKernel::lay_out(const float* weight, float* laid_out) const {
    pack_weight(forward_, weight, out_, laid_out);
}

void DenseKernel::data_gradient(std::int64_t rows, const float* output_gradient, const float* weight,
                                bool accumulate, float* input_gradient) const {
    const Scratch packed(data_.packed_size());
    pack_transposed_weight(data_, weight, out_, std::array<std::int64_t, 1>{0}, packed.data());
    multiply_rows(data_, rows, output_gradient, packed.data(), nullptr, accumulate, input_gradient);
}

void DenseKernel::weight_gradient(std::int64_t rows, const float* input, const float* output_gradient,
                                  float* weight_gradient) const {
    weight_(rows, input, output_gradient, weight_gradient);
}

std::int64_t DenseKernel::scratch_size() const {
    return std::max({in_ * out_, row_block * (in_ + out_), forward_.scratch_size(), data_.scratch_size(),
                     weight_.scratch_size()});
}

}  // namespace jevrin::inline v1
