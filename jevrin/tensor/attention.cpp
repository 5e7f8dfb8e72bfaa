#include "jevrin/tensor/attention.hpp"

#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/scratch.hpp"
#include "jevrin/tensor/transposition.hpp"
#include "jevrin/tensor/vector_math.hpp"

#include <algorithm>
#include <array>
#include <utility>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t most_tile_rows = 96;
constexpr std::int64_t lanes = 16;

constexpr std::array<std::uint64_t, 1> no_offset = {0};

// What is kept of a row of scores: with it the softmax of a score is fast_exp(score - largest) * share.
struct RowSums {
    float largest;
    float share;
};

// Replaces a row of scaled scores by its softmax.
RowSums softmax_row(std::int64_t length, float* row) {
    const float top = largest_term(length, [=](std::int64_t k) { return row[k]; });
    for (std::int64_t k = 0; k < length; ++k) row[k] = fast_exp(row[k] - top);
    const auto share = static_cast<float>(1.0 / sum_terms(length, [=](std::int64_t k) { return row[k]; }));
    for (std::int64_t k = 0; k < length; ++k) row[k] *= share;
    return {top, share};
}

}  // namespace

AttentionKernel::AttentionKernel(AttentionShape shape, ProductForm form)
    : shape_(std::move(shape)),
      tiles_(divide_up(shape_.queries, most_tile_rows)),
      tile_rows_(divide_up(shape_.queries, tiles_)),
      score_stride_(round_up(shape_.keys, lanes)) {
    tiles_ = divide_up(shape_.queries, tile_rows_);
    products_[0] = products_of(tile_rows_, form);
    products_[1] = products_of(shape_.queries - (tiles_ - 1) * tile_rows_, form);
}

AttentionKernel::TileProducts AttentionKernel::products_of(std::int64_t rows, ProductForm form) const {
    const AttentionShape& s = shape_;
    TileProducts p{.rows = rows};
    const auto make = [&](std::int64_t height, std::int64_t columns, std::int64_t depth,
                          std::int64_t a_stride, std::int64_t b_stride, std::int64_t c_stride,
                          bool a_transposed = false, bool accumulate = false) {
        return SumOfProducts({height, columns, depth, a_stride, b_stride, c_stride, a_transposed, accumulate},
                             form);
    };
    const std::int64_t across = score_stride_;
    p.scores = make(rows, across, s.depth, s.query.row_stride, across, across);
    p.mix = make(rows, s.value_depth, s.keys, across, s.value.row_stride, s.output.row_stride);
    p.weight_gradient = make(rows, across, s.value_depth, s.output.row_stride, across, across);
    for (const bool add : {false, true}) {
        p.query_gradient[add] =
            make(rows, s.depth, s.keys, across, s.key.row_stride, s.query.row_stride, false, add);
        p.key_gradient[add] =
            make(s.keys, s.depth, rows, across, s.query.row_stride, s.key.row_stride, true, add);
        p.value_gradient[add] =
            make(s.keys, s.value_depth, rows, across, s.output.row_stride, s.value.row_stride, true, add);
    }
    return p;
}

std::int64_t AttentionKernel::scratch_size() const {
    return score_stride_ * (shape_.depth + shape_.value_depth + 2 * tile_rows_);
}

namespace {

// Rows [count, width] as columns of [width, stride], zeros beyond them.
void turn_rows(std::int64_t count, std::int64_t width, const float* rows, std::int64_t row_stride, float* to,
               std::int64_t stride) {
    transpose(count, width, rows, row_stride, to, stride);
    for (std::int64_t w = 0; w < width; ++w) std::fill_n(to + w * stride + count, stride - count, 0.0F);
}

}  // namespace

// scores [rows, score_stride] = scale * query * turned key.
void AttentionKernel::score(const TileProducts& products, const float* query, const float* turned_key,
                            float* scores) const {
    products.scores(query, turned_key, scores, no_offset, no_offset);
    for (std::int64_t i = 0; i < products.rows * score_stride_; ++i) scores[i] *= shape_.scale;
}

void AttentionKernel::forward(std::int64_t batch, const float* query, const float* key, const float* value,
                              float* output, float* kept) const {
    const AttentionShape& s = shape_;
    const std::int64_t heads = s.heads();
    // A batch has a task for each head, a single image one for each tile; either gives the same bits.
    const std::int64_t parts = batch * heads >= 4 * threads() ? 1 : tiles_;
    parallel_for(batch * heads * parts, [&](std::int64_t task) {
        const std::int64_t item = task / (heads * parts);
        const std::int64_t head = task / parts % heads;
        const auto h = static_cast<std::size_t>(head);
        const Scratch scratch(scratch_size());
        float* turned = scratch.data();
        float* scores = turned + s.depth * score_stride_;
        const float* q = query + item * s.query.item_size + s.query.heads[h];
        const float* v = value + item * s.value.item_size + s.value.heads[h];
        float* out = output + item * s.output.item_size + s.output.heads[h];
        turn_rows(s.keys, s.depth, key + item * s.key.item_size + s.key.heads[h], s.key.row_stride, turned,
                  score_stride_);
        const IndexRange range = chunk_range(tiles_, parts, task % parts);
        for (std::int64_t tile = range.begin; tile < range.end; ++tile) {
            const TileProducts& products = products_at(tile);
            const std::int64_t first = tile * tile_rows_;
            score(products, q + first * s.query.row_stride, turned, scores);
            for (std::int64_t r = 0; r < products.rows; ++r) {
                const RowSums sums = softmax_row(s.keys, scores + r * score_stride_);
                if (kept == nullptr) continue;
                float* place = kept + ((item * heads + head) * s.queries + first + r) * 2;
                place[0] = sums.largest;
                place[1] = sums.share;
            }
            products.mix(scores, v, out + first * s.output.row_stride, no_offset, no_offset);
        }
    });
}

void AttentionKernel::backward(std::int64_t batch, const float* query, const float* key, const float* value,
                               const float* kept, const float* output_gradient,
                               const Gradients& gradients) const {
    const AttentionShape& s = shape_;
    const std::int64_t heads = s.heads();
    parallel_for(batch * heads, [&](std::int64_t task) {
        const std::int64_t item = task / heads;
        const auto h = static_cast<std::size_t>(task % heads);
        const Scratch scratch(scratch_size());
        float* turned_key = scratch.data();
        float* turned_value = turned_key + s.depth * score_stride_;
        float* weights = turned_value + s.value_depth * score_stride_;
        float* slopes = weights + tile_rows_ * score_stride_;
        const std::int64_t q_at = item * s.query.item_size + s.query.heads[h];
        const std::int64_t k_at = item * s.key.item_size + s.key.heads[h];
        const std::int64_t v_at = item * s.value.item_size + s.value.heads[h];
        const float* g = output_gradient + item * s.output.item_size + s.output.heads[h];
        turn_rows(s.keys, s.depth, key + k_at, s.key.row_stride, turned_key, score_stride_);
        turn_rows(s.keys, s.value_depth, value + v_at, s.value.row_stride, turned_value, score_stride_);
        for (std::int64_t tile = 0; tile < tiles_; ++tile) {
            const TileProducts& products = products_at(tile);
            const std::int64_t first = tile * tile_rows_;
            const float* q = query + q_at + first * s.query.row_stride;
            const float* tile_gradient = g + first * s.output.row_stride;
            const float* sums = kept + (task * s.queries + first) * 2;
            score(products, q, turned_key, weights);
            products.weight_gradient(tile_gradient, turned_value, slopes, no_offset, no_offset);
            // With weights p = softmax(score): d score = p * (d p - sum(p * d p)) * scale.
            for (std::int64_t r = 0; r < products.rows; ++r) {
                float* p = weights + r * score_stride_;
                float* d = slopes + r * score_stride_;
                const float largest = sums[2 * r];
                const float share = sums[2 * r + 1];
                for (std::int64_t k = 0; k < s.keys; ++k) p[k] = fast_exp(p[k] - largest) * share;
                const auto mean =
                    static_cast<float>(sum_terms(s.keys, [=](std::int64_t k) { return p[k] * d[k]; }));
                for (std::int64_t k = 0; k < s.keys; ++k) d[k] = p[k] * (d[k] - mean) * s.scale;
            }
            const auto add = [&](const SumOfProducts* product, const Target& target, bool goes_on,
                                 const float* a, const float* b, std::int64_t at) {
                if (target.gradient != nullptr)
                    product[target.accumulate || goes_on](a, b, target.gradient + at, no_offset, no_offset);
            };
            add(products.query_gradient, gradients.query, false, slopes, key + k_at,
                q_at + first * s.query.row_stride);
            add(products.key_gradient, gradients.key, tile > 0, slopes, q, k_at);
            add(products.value_gradient, gradients.value, tile > 0, weights, tile_gradient, v_at);
        }
    });
}

}  // namespace jevrin::inline v1
