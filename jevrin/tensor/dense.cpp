#include "jevrin/tensor/dense.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <array>
#include <vector>

namespace jevrin {
namespace {

// Rows are always computed in blocks of this size, so that a row gets the same bits in every batch.
constexpr std::int64_t row_block = 8;
constexpr int row_slot = 0;
constexpr int weight_slot = 1;
constexpr std::array<std::uint64_t, 1> no_offset = {0};

// Applies a product of exactly row_block rows to any number of rows; a short last block goes through zeros.
void for_row_blocks(const SumOfProducts& product, std::int64_t rows, std::int64_t in, std::int64_t out,
                    const float* input, const float* weight, bool accumulate, float* output) {
    parallel_for((rows + row_block - 1) / row_block, [&](std::int64_t block) {
        const std::int64_t begin = block * row_block;
        const std::int64_t count = std::min(row_block, rows - begin);
        float* result = scratch(row_block * (in + out), row_slot);
        const float* block_input = input + begin * in;
        if (count < row_block) {
            float* copy = result + row_block * out;
            std::copy_n(block_input, count * in, copy);
            std::fill_n(copy + count * in, (row_block - count) * in, 0.0F);
            block_input = copy;
        }
        product(block_input, weight, result, no_offset, no_offset);
        float* target = output + begin * out;
        if (accumulate)
            for (std::int64_t i = 0; i < count * out; ++i) target[i] += result[i];
        else
            std::copy_n(result, count * out, target);
    });
}

}  // namespace

DenseKernel::DenseKernel(std::int64_t in, std::int64_t out, ProductForm form)
    : in_(in),
      out_(out),
      forward_(
          {.rows = row_block, .columns = out, .depth = in, .a_stride = in, .b_stride = out, .c_stride = out},
          form),
      data_({.rows = row_block, .columns = in, .depth = out, .a_stride = out, .b_stride = in, .c_stride = in},
            form),
      // One item at a time: the sum over the batch is the sum of products, whatever the batch size.
      weight_({.rows = in,
               .columns = out,
               .depth = 1,
               .a_stride = in,
               .b_stride = out,
               .c_stride = out,
               .a_transposed = true},
              form) {}

void DenseKernel::forward(std::int64_t batch, const float* input, const float* weight, const float* bias,
                          float* output) const {
    for_row_blocks(forward_, batch, in_, out_, input, weight, false, output);
    if (bias == nullptr) return;
    for (std::int64_t n = 0; n < batch; ++n)
        for (std::int64_t o = 0; o < out_; ++o) output[n * out_ + o] += bias[o];
}

void DenseKernel::data_gradient(std::int64_t batch, const float* output_gradient, const float* weight,
                                bool accumulate, float* input_gradient) const {
    float* transposed = scratch(in_ * out_, weight_slot);
    for (std::int64_t i = 0; i < in_; ++i)
        for (std::int64_t o = 0; o < out_; ++o) transposed[o * in_ + i] = weight[i * out_ + o];
    for_row_blocks(data_, batch, out_, in_, output_gradient, transposed, accumulate, input_gradient);
}

void DenseKernel::weight_gradient(std::int64_t batch, const float* input, const float* output_gradient,
                                  float* weight_gradient, float* bias_gradient) const {
    thread_local std::vector<std::uint64_t> inputs;
    thread_local std::vector<std::uint64_t> gradients;
    inputs.resize(static_cast<std::size_t>(batch));
    gradients.resize(static_cast<std::size_t>(batch));
    for (std::size_t n = 0; n < inputs.size(); ++n) {
        inputs[n] = n * static_cast<std::uint64_t>(in_);
        gradients[n] = n * static_cast<std::uint64_t>(out_);
    }
    weight_(input, output_gradient, weight_gradient, inputs, gradients);
    if (bias_gradient == nullptr) return;
    std::fill_n(bias_gradient, out_, 0.0F);
    for (std::int64_t n = 0; n < batch; ++n)
        for (std::int64_t o = 0; o < out_; ++o) bias_gradient[o] += output_gradient[n * out_ + o];
}

}  // namespace jevrin
