// Operators that only move elements: slices, transpositions, padding, gathering. Each is a table, per item,
// of where every stretch of the output comes from.
#pragma once

#include "jevrin/tensor/kinds.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

class Rearrangement {
  public:
    Rearrangement() = default;

    // Shapes are those of one item.
    // Output dimension d is input dimension permutation[d].
    static Rearrangement transpose(const Shape& input, std::span<const std::int64_t> permutation);
    // One stretch along each dimension.
    static Rearrangement slice(const Shape& input, std::span<const Stretch> stretches);
    // Reflection needs less padding than the dimension is long.
    static Rearrangement pad(const Shape& input, std::span<const std::int64_t> before,
                             std::span<const std::int64_t> after, PaddingKind kind, float value);
    // Along one dimension the places of the list, in its order.
    static Rearrangement gather(const Shape& input, std::int64_t axis, std::span<const std::int64_t> places);

    void forward(std::int64_t batch, const float* input, float* output) const;
    // input_gradient (+)= the output gradients at the places each element went to.
    void backward(std::int64_t batch, const float* output_gradient, bool accumulate,
                  float* input_gradient) const;

  private:
    // From the source place along each dimension; -1 stands for the padding value.
    Rearrangement(const Shape& input, const std::vector<std::vector<std::int64_t>>& places,
                  std::span<const std::int64_t> permutation);

    // Matrices whose rows become columns: those of a transposition that moves the last dimension.
    struct Turning {
        std::int64_t rows = 0;
        std::int64_t columns = 0;
        std::int64_t from_stride = 0;  // elements between rows in the input,
        std::int64_t to_stride = 0;    // and in the output
        struct Matrix {
            std::int64_t from = 0;
            std::int64_t to = 0;
        };
        std::vector<Matrix> matrices;  // where they begin; empty: the table of stretches is used
    };
    static Turning turning(const Shape& input, std::span<const std::int64_t> permutation);

    template <typename Work>
    void for_matrices(std::int64_t batch, const Work& work) const;
    template <typename Work>
    void for_stretches(std::int64_t batch, std::int64_t parts, const Work& work) const;

    std::int64_t input_size_ = 0;
    std::int64_t output_size_ = 0;
    std::int64_t length_ = 1;            // elements that move together
    std::vector<std::int32_t> sources_;  // of each stretch of the output, in stretches; -1: padding
    bool once_ = false;                  // no stretch of the input is in the output twice,
    bool all_ = false;                   // or missing
    float value_ = 0.0F;
    Turning turning_;
};

// output = the inputs one after the other along an axis; sizes[k] is the number of elements of input k from
// that axis on (its length along the axis times the dimensions behind it).
void concatenate(std::int64_t outer, std::span<const std::int64_t> sizes,
                 std::span<const float* const> inputs, float* output);
// input_gradient (+)= the fraction of one input.
void concatenate_backward(std::int64_t outer, std::span<const std::int64_t> sizes, std::size_t input,
                          const float* output_gradient, bool accumulate, float* input_gradient);

}  // namespace jevrin::inline v1
