// Attention (Vaswani 2017): output = softmax(scale * query * transposed key) * value, for each head of each
// item.
//
// Scores are computed for a tile of query rows at a time and stay in the cache; backward computes them again
// from what forward keeps of each row, its largest score and the sum of its exponentials (Dao 2022). The rows
// of the heads are read and written where they lie, at any distance from each other.
#pragma once

#include "jevrin/tensor/products.hpp"

#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

// The rows of one operand within an item: those of head h begin at heads[h] and lie row_stride apart, each
// with its elements side by side.
struct HeadRows {
    std::int64_t item_size = 0;
    std::int64_t row_stride = 0;
    std::vector<std::int64_t> heads;
};

struct AttentionShape {
    std::int64_t queries = 0;  // rows of query and output
    std::int64_t keys = 0;     // rows of key and value
    std::int64_t depth = 0;    // elements of a row of query and key
    std::int64_t value_depth = 0;
    float scale = 1.0F;
    HeadRows query;
    HeadRows key;
    HeadRows value;
    HeadRows output;

    std::int64_t heads() const { return std::ssize(query.heads); }
};

class AttentionKernel {
  public:
    explicit AttentionKernel(AttentionShape shape, ProductForm form = ProductForm::fastest);

    const AttentionShape& shape() const { return shape_; }
    // Floats that forward keeps for backward, for one item.
    std::int64_t kept_size() const { return shape_.heads() * shape_.queries * 2; }

    // Operands are [batch, item_size]; kept is [batch, kept_size()], or null when there will be no backward.
    void forward(std::int64_t batch, const float* query, const float* key, const float* value, float* output,
                 float* kept) const;

    // Gradients (+)= theirs, in the rows of the operands; each may be null.
    struct Target {
        float* gradient = nullptr;
        bool accumulate = false;
    };
    struct Gradients {
        Target query;
        Target key;
        Target value;
    };
    void backward(std::int64_t batch, const float* query, const float* key, const float* value,
                  const float* kept, const float* output_gradient, const Gradients& gradients) const;

    // The largest lease of scratch that either takes.
    std::int64_t scratch_size() const;

  private:
    // The products of a tile of so many query rows; those that may add to their result by whether they do.
    struct TileProducts {
        std::int64_t rows = 0;
        SumOfProducts scores;
        SumOfProducts mix;
        SumOfProducts weight_gradient;  // of the softmax
        SumOfProducts query_gradient[2];
        SumOfProducts key_gradient[2];
        SumOfProducts value_gradient[2];
    };
    TileProducts products_of(std::int64_t rows, ProductForm form) const;
    const TileProducts& products_at(std::int64_t tile) const { return products_[tile + 1 == tiles_ ? 1 : 0]; }
    void score(const TileProducts& products, const float* query, const float* turned_key,
               float* scores) const;

    AttentionShape shape_;
    std::int64_t tiles_ = 0;
    std::int64_t tile_rows_ = 0;
    std::int64_t score_stride_ = 0;
    TileProducts products_[2];  // of the tiles but the last, and of that
};

}  // namespace jevrin::inline v1
