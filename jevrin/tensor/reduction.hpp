// Sums, means and maxima.
#pragma once

#include "jevrin/tensor/kinds.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// sums[c] = the sum of values[r * columns + c] over all rows, added in double within chunks of rows that
// depend on the shape alone.
void sum_rows(std::int64_t rows, std::int64_t columns, const float* values, float* sums);

// Takes some dimensions of every item together.
class ReductionKernel {
  public:
    ReductionKernel() = default;
    // axes are dimensions of one item.
    ReductionKernel(ReductionKind kind, const Shape& input, std::span<const std::int64_t> axes);

    std::int64_t output_size() const { return output_size_; }

    // Sums are added in double. winners [batch, output] receives, for a maximum, the place of the first
    // largest element within its item; it may be null when no gradient is wanted.
    void forward(std::int64_t batch, const float* input, float* output, std::int32_t* winners) const;
    void backward(std::int64_t batch, const float* output_gradient, const std::int32_t* winners,
                  bool accumulate, float* input_gradient) const;

  private:
    ReductionKind kind_ = ReductionKind::sum;
    std::int64_t input_size_ = 0;
    std::int64_t output_size_ = 1;
    std::vector<std::int32_t> targets_;  // of each element of an item
};

}  // namespace jevrin::inline v1
