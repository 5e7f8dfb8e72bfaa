#include "jevrin/tensor/row_gradient.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/partial_sums.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t piece_rows = 64;    // of input, in one sum of products
constexpr std::int64_t product_rows = 16;  // of them in one product
// A block stays in a cache of 1 MB, beside its piece of the input and of the output gradient.
constexpr std::int64_t most_block_rows = 256;
constexpr std::int64_t block_floats = 32 * 1024;
constexpr std::int64_t most_slice_columns = 64;  // the kernels keep as many in registers
constexpr std::int64_t wanted_tasks = 8;         // at least, and an even number of them
constexpr std::int64_t fewest_chunk_pieces = 4;  // so that adding up chunks is little beside them
constexpr std::int64_t most_partial_floats = 4 << 20;

// A piece of a matrix, zeros below it up to the end of a product.
void copy_rows(const float* from, std::int64_t rows, std::int64_t columns, float* to) {
    std::copy_n(from, rows * columns, to);
    std::fill(to + rows * columns, to + round_up(rows, product_rows) * columns, 0.0F);
}

}  // namespace

RowGradient::RowGradient(std::int64_t in, std::int64_t out, ProductForm form)
    : in_(in),
      out_(out),
      block_rows_(divide_up(in, divide_up(in, most_block_rows))),
      slice_columns_(std::min(out, most_slice_columns)),
      block_columns_(slice_columns_ *
                     divide_up(divide_up(out, divide_up(out, block_floats / block_rows_)), slice_columns_)) {
    for (std::int64_t row = 0; row < piece_rows; row += product_rows)
        a_offsets_.push_back(static_cast<std::uint64_t>(row * in));
    for (int c = 0; c < 2; ++c) {
        const std::int64_t columns = c == 0 ? slice_columns_ : (out - 1) % slice_columns_ + 1;
        for (std::int64_t row = 0; row < piece_rows; row += product_rows)
            b_offsets_[c].push_back(static_cast<std::uint64_t>(row * columns));
        for (int r = 0; r < 2; ++r) {
            ProductShape product{.rows = r == 0 ? block_rows_ : (in - 1) % block_rows_ + 1,
                                 .columns = columns,
                                 .depth = product_rows,
                                 .a_stride = in,
                                 .b_stride = columns,
                                 .c_stride = columns,
                                 .a_transposed = true};
            products_[r][c].replace = SumOfProducts(product, form);
            product.accumulate = true;
            products_[r][c].accumulate = SumOfProducts(product, form);
        }
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
    const std::int64_t by_tasks = divide_up(wanted_tasks, block_count());
    const bool odd = by_tasks > 1 && by_tasks * block_count() % 2 != 0;
    return std::min(odd ? by_tasks + 1 : by_tasks, by_memory);
}

// The sum, a piece of the output gradient, and of the input where rows end within it.
std::int64_t RowGradient::block_scratch() const {
    return block_rows_ * block_columns_ + piece_rows * (block_columns_ + in_);
}

std::int64_t RowGradient::scratch_size() const {
    return std::max(block_scratch(), most_chunks() > 1 ? most_chunks() * in_ * out_ : 0);
}

// The output gradient of a piece, slice by slice: [slice][row][columns of the slice].
void RowGradient::slice(const float* output_gradient, std::int64_t rows, std::int64_t columns,
                        float* to) const {
    for (std::int64_t r = 0; r < rows; ++r)
        for (std::int64_t c = 0; c < columns; c += slice_columns_) {
            const std::int64_t width = std::min(slice_columns_, columns - c);
            std::copy_n(output_gradient + r * out_ + c, width, to + c * piece_rows + r * width);
        }
    for (std::int64_t c = 0; c < columns; c += slice_columns_) {
        const std::int64_t width = std::min(slice_columns_, columns - c);
        float* end = to + c * piece_rows + rows * width;
        std::fill_n(end, (round_up(rows, product_rows) - rows) * width, 0.0F);
    }
}

void RowGradient::sum_block(const Block& block, std::int64_t first, std::int64_t rows, const float* input,
                            const float* output_gradient, float* gradient, float* scratch) const {
    float* sum = scratch;  // [slice][block rows][columns of the slice]
    float* slices = sum + block_rows_ * block_columns_;
    float* input_end = slices + piece_rows * block_columns_;
    if (rows == 0) std::fill_n(sum, block.rows * block.columns, 0.0F);
    for (std::int64_t r = 0; r < rows; r += piece_rows) {
        const std::int64_t count = std::min(piece_rows, rows - r);
        const auto products = static_cast<std::size_t>(divide_up(count, product_rows));
        const float* a = input + (first + r) * in_;
        if (count % product_rows != 0) {
            copy_rows(a, count, in_, input_end);
            a = input_end;
        }
        const float* b = output_gradient + (first + r) * out_ + block.column;
        if (out_ != slice_columns_ || count % product_rows != 0) {
            slice(b, count, block.columns, slices);
            b = slices;
        }
        for (std::int64_t column = 0; column < block.columns; column += slice_columns_) {
            const bool last = block.columns - column < slice_columns_;
            const Products& forms = products_[block.rows != block_rows_][last];
            const SumOfProducts& product = r == 0 ? forms.replace : forms.accumulate;
            product(a + block.row, b + column * piece_rows, sum + column * block.rows,
                    std::span(a_offsets_).first(products), std::span(b_offsets_[last]).first(products));
        }
    }
    for (std::int64_t column = 0; column < block.columns; column += slice_columns_) {
        const std::int64_t columns = std::min(slice_columns_, block.columns - column);
        const float* from = sum + column * block.rows;
        for (std::int64_t r = 0; r < block.rows; ++r)
            std::copy_n(from + r * columns, columns,
                        gradient + (block.row + r) * out_ + block.column + column);
    }
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
