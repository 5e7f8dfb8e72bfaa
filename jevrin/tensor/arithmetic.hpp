// Arithmetic of two arrays, element by element, with broadcasting: dimensions of size 1 and missing leading
// dimensions of one operand are repeated along those of the other.
#pragma once

#include "jevrin/tensor/kinds.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <cstdint>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {

// The shape that both broadcast to, or nothing when they do not fit together.
std::optional<Shape> broadcast_shape(const Shape& a, const Shape& b);

class ArithmeticKernel {
  public:
    ArithmeticKernel() = default;
    // Shapes of one item; they must fit together.
    ArithmeticKernel(ArithmeticKind kind, const Shape& a, const Shape& b);

    // output may be a when a has the shape of the output.
    void forward(std::int64_t batch, const float* a, const float* b, float* output) const;
    // The same with max(., 0) behind it, in one pass.
    void rectified_forward(std::int64_t batch, const float* a, const float* b, float* output) const;
    // a_gradient, b_gradient (+)= their gradients; either may be null, and a_gradient may be output_gradient
    // when a has the shape of the output.
    struct Target {
        float* gradient = nullptr;
        bool accumulate = false;
    };
    void backward(std::int64_t batch, const float* a, const float* b, const float* output_gradient,
                  Target a_target, Target b_target) const;

  private:
    // A stretch of the output along which each operand moves by a fixed step, 0 or 1.
    struct Stretch {
        std::int64_t a = 0;
        std::int64_t b = 0;
    };
    template <typename Value>
    void apply(std::int64_t batch, const float* a, const float* b, float* output, Value value) const;
    template <typename Slope>
    void operand_backward(std::int64_t batch, bool first, Target target, Slope slope) const;

    ArithmeticKind kind_ = ArithmeticKind::add;
    std::int64_t a_size_ = 0;
    std::int64_t b_size_ = 0;
    std::int64_t size_ = 0;
    std::int64_t length_ = 1;  // of a stretch
    std::int64_t a_step_ = 1;
    std::int64_t b_step_ = 1;
    std::vector<Stretch> stretches_;
};

}  // namespace jevrin::inline v1
