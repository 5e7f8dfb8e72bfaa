#include "jevrin/tensor/row_gradient.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/partial_sums.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t piece_rows = 64;  // of input, in one product
constexpr std::int64_t most_block_rows = 256;
constexpr std::int64_t most_block_columns = 64;
constexpr std::int64_t wanted_tasks = 8;
constexpr std::int64_t fewest_chunk_pieces = 4;  // so that adding up chunks is little beside them
constexpr std::int64_t most_partial_floats = 4 << 20;

const std::uint64_t at_begin[] = {0};

// Some columns of some rows, side by side, zeros below them.
void copy_piece(const float* from, std::int64_t stride, std::int64_t rows, std::int64_t columns, float* to) {
    for (std::int64_t r = 0; r < rows; ++r) std::copy_n(from + r * stride, columns, to + r * columns);
    std::fill_n(to + rows * columns, (piece_rows - rows) * columns, 0.0F);
}

}  // namespace

RowGradient::RowGradient(std::int64_t in, std::int64_t out, ProductForm form)
    : in_(in),
      out_(out),
      block_rows_(divide_up(in, divide_up(in, most_block_rows))),
      block_columns_(std::min(out, most_block_columns)) {
    for (int r = 0; r < 2; ++r)
        for (int c = 0; c < 2; ++c) {
            const std::int64_t columns = c == 0 ? block_columns_ : (out - 1) % block_columns_ + 1;
            ProductShape product{.rows = r == 0 ? block_rows_ : (in - 1) % block_rows_ + 1,
                                 .columns = columns,
                                 .depth = piece_rows,
                                 .a_stride = in,
                                 .b_stride = columns,
                                 .c_stride = columns,
                                 .a_transposed = true};
            products_[r][c].replace = SumOfProducts(product, form);
            product.accumulate = true;
            products_[r][c].accumulate = SumOfProducts(product, form);
        }
}

std::int64_t RowGradient::block_count() const {
    return divide_up(in_, block_rows_) * divide_up(out_, block_columns_);
}

RowGradient::Block RowGradient::block(std::int64_t index) const {
    const std::int64_t across = divide_up(out_, block_columns_);
    const std::int64_t row = index / across * block_rows_;
    const std::int64_t column = index % across * block_columns_;
    return {row, std::min(block_rows_, in_ - row), column, std::min(block_columns_, out_ - column)};
}

std::int64_t RowGradient::most_chunks() const {
    const std::int64_t by_memory = std::max<std::int64_t>(1, most_partial_floats / (in_ * out_));
    return std::min(divide_up(wanted_tasks, block_count()), by_memory);
}

// The sum, a piece of the output gradient, and of the input where rows end within it.
std::int64_t RowGradient::block_scratch() const {
    return block_rows_ * block_columns_ + piece_rows * (block_columns_ + in_);
}

std::int64_t RowGradient::scratch_size() const {
    return std::max(block_scratch(), most_chunks() > 1 ? most_chunks() * in_ * out_ : 0);
}

void RowGradient::sum_block(const Block& block, std::int64_t first, std::int64_t rows, const float* input,
                            const float* output_gradient, float* gradient, float* scratch) const {
    float* sum = scratch;
    float* piece = sum + block_rows_ * block_columns_;
    float* input_end = piece + piece_rows * block_columns_;
    const Products& products = products_[block.rows != block_rows_][block.columns != block_columns_];
    const bool in_place = block.columns == out_;
    if (rows == 0) std::fill_n(sum, block.rows * block.columns, 0.0F);
    for (std::int64_t r = 0; r < rows; r += piece_rows) {
        const std::int64_t count = std::min(piece_rows, rows - r);
        const float* a = input + (first + r) * in_;
        const float* b = output_gradient + (first + r) * out_ + block.column;
        if (count < piece_rows) {
            copy_piece(a, in_, count, in_, input_end);
            a = input_end;
        }
        if (!in_place || count < piece_rows) {
            copy_piece(b, out_, count, block.columns, piece);
            b = piece;
        }
        const SumOfProducts& product = r == 0 ? products.replace : products.accumulate;
        product(a + block.row, b, sum, at_begin, at_begin);
    }
    for (std::int64_t r = 0; r < block.rows; ++r)
        std::copy_n(sum + r * block.columns, block.columns, gradient + (block.row + r) * out_ + block.column);
}

void RowGradient::operator()(std::int64_t rows, const float* input, const float* output_gradient,
                             float* gradient) const {
    const std::int64_t count = in_ * out_;
    const std::int64_t pieces = divide_up(rows, piece_rows);
    const std::int64_t chunks = std::clamp<std::int64_t>(pieces / fewest_chunk_pieces, 1, most_chunks());
    const std::int64_t blocks = block_count();
    const Scratch partials(chunks > 1 ? chunks * count : 0);
    parallel_for(chunks * blocks, [&](std::int64_t task) {
        const std::int64_t chunk = task / blocks;
        const IndexRange range = chunk_range(pieces, chunks, chunk);
        const std::int64_t first = range.begin * piece_rows;
        const Scratch scratch(block_scratch());
        sum_block(block(task % blocks), first, std::min(range.end * piece_rows, rows) - first, input,
                  output_gradient, chunks > 1 ? partials.data() + chunk * count : gradient, scratch.data());
    });
    if (chunks > 1) add_partials(chunks, count, partials.data(), gradient);
}

}  // namespace jevrin::inline v1
