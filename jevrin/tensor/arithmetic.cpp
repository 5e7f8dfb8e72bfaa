#include "jevrin/tensor/arithmetic.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/element_loop.hpp"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

// The shape with leading ones up to so many dimensions.
Shape widened(const Shape& shape, std::size_t dimensions) {
    Shape wide(dimensions - shape.size(), 1);
    wide.insert(wide.end(), shape.begin(), shape.end());
    return wide;
}

// Elements to move along each dimension; 0 where the operand is repeated.
Shape steps_of(const Shape& operand) {
    Shape steps(operand.size(), 0);
    std::int64_t step = 1;
    for (std::size_t d = operand.size(); d-- > 0;) {
        if (operand[d] != 1) steps[d] = step;
        step *= operand[d];
    }
    return steps;
}

template <typename Visit>
void with_arithmetic(ArithmeticKind kind, Visit visit) {
    switch (kind) {
        case ArithmeticKind::add:
            return visit([](float a, float b) { return a + b; });
        case ArithmeticKind::subtract:
            return visit([](float a, float b) { return a - b; });
        case ArithmeticKind::multiply:
            return visit([](float a, float b) { return a * b; });
        case ArithmeticKind::divide:
            return visit([](float a, float b) { return a / b; });
        case ArithmeticKind::power:
            return visit([](float a, float b) { return b == 2.0F ? a * a : std::pow(a, b); });
        case ArithmeticKind::maximum:
            return visit([](float a, float b) { return std::max(a, b); });
        case ArithmeticKind::minimum:
            return visit([](float a, float b) { return std::min(a, b); });
    }
}

}  // namespace

std::optional<Shape> broadcast_shape(const Shape& a, const Shape& b) {
    const std::size_t dimensions = std::max(a.size(), b.size());
    const Shape wide_a = widened(a, dimensions);
    const Shape wide_b = widened(b, dimensions);
    Shape shape(dimensions);
    for (std::size_t d = 0; d < dimensions; ++d) {
        if (wide_a[d] != wide_b[d] && wide_a[d] != 1 && wide_b[d] != 1) return std::nullopt;
        shape[d] = std::max(wide_a[d], wide_b[d]);
    }
    return shape;
}

ArithmeticKernel::ArithmeticKernel(ArithmeticKind kind, const Shape& a, const Shape& b)
    : kind_(kind), a_size_(element_count(a)), b_size_(element_count(b)) {
    const std::optional<Shape> fitting = broadcast_shape(a, b);
    assert(fitting);
    const Shape& shape = *fitting;
    size_ = element_count(shape);
    const Shape wide_a = widened(a, shape.size());
    const Shape wide_b = widened(b, shape.size());
    const Shape a_steps = steps_of(wide_a);
    const Shape b_steps = steps_of(wide_b);
    // Trailing dimensions join the stretch as long as each operand is whole in all of them, or in none.
    std::size_t first = shape.size();
    const auto whole = [](const Shape& operand, const Shape& out, std::size_t d) {
        return operand[d] == out[d];
    };
    const auto repeated = [](const Shape& operand, std::size_t d) { return operand[d] == 1; };
    bool a_whole = true;
    bool a_repeated = true;
    bool b_whole = true;
    bool b_repeated = true;
    while (first > 0) {
        const std::size_t d = first - 1;
        const bool next_a_whole = a_whole && whole(wide_a, shape, d);
        const bool next_a_repeated = a_repeated && repeated(wide_a, d);
        const bool next_b_whole = b_whole && whole(wide_b, shape, d);
        const bool next_b_repeated = b_repeated && repeated(wide_b, d);
        if (!(next_a_whole || next_a_repeated) || !(next_b_whole || next_b_repeated)) break;
        a_whole = next_a_whole;
        a_repeated = next_a_repeated;
        b_whole = next_b_whole;
        b_repeated = next_b_repeated;
        length_ *= shape[d];
        --first;
    }
    a_step_ = a_whole ? 1 : 0;
    b_step_ = b_whole ? 1 : 0;
    Shape place(first, 0);
    for (std::int64_t i = 0; i < size_ / length_; ++i) {
        Stretch stretch;
        for (std::size_t d = 0; d < first; ++d) {
            stretch.a += place[d] * a_steps[d];
            stretch.b += place[d] * b_steps[d];
        }
        stretches_.push_back(stretch);
        for (std::size_t d = first; d-- > 0;) {
            if (++place[d] < shape[d]) break;
            place[d] = 0;
        }
    }
}

template <typename Value>
void ArithmeticKernel::apply(std::int64_t batch, const float* a, const float* b, float* output,
                             Value value) const {
    if (stretches_.size() == 1 && a_step_ == 1 && b_step_ == 1) {
        assign_elements(batch * size_, false, output, [=](std::int64_t i) { return value(a[i], b[i]); });
        return;
    }
    parallel_for(batch, [&](std::int64_t n) {
        float* out = output + n * size_;
        for (const Stretch& stretch : stretches_) {
            const float* left = a + n * a_size_ + stretch.a;
            const float* right = b + n * b_size_ + stretch.b;
            if (a_step_ == 1 && b_step_ == 1)
                for (std::int64_t i = 0; i < length_; ++i) out[i] = value(left[i], right[i]);
            else if (a_step_ == 1)
                for (std::int64_t i = 0; i < length_; ++i) out[i] = value(left[i], *right);
            else
                for (std::int64_t i = 0; i < length_; ++i) out[i] = value(*left, right[i * b_step_]);
            out += length_;
        }
    });
}

void ArithmeticKernel::forward(std::int64_t batch, const float* a, const float* b, float* output) const {
    with_arithmetic(kind_, [&](auto value) { apply(batch, a, b, output, value); });
}

void ArithmeticKernel::rectified_forward(std::int64_t batch, const float* a, const float* b,
                                         float* output) const {
    with_arithmetic(kind_, [&](auto value) {
        apply(batch, a, b, output, [=](float x, float y) { return std::max(value(x, y), 0.0F); });
    });
}

// gradient (+)= the sum of slope(item place of a, of b, of the output) over the places that repeat an
// element.
template <typename Slope>
void ArithmeticKernel::operand_backward(std::int64_t batch, bool first, Target target, Slope slope) const {
    const std::int64_t size = first ? a_size_ : b_size_;
    const std::int64_t step = first ? a_step_ : b_step_;
    const bool repeated = size != size_;
    parallel_for(batch, [&](std::int64_t n) {
        float* gradient = target.gradient + n * size;
        if (repeated && !target.accumulate) std::fill_n(gradient, size, 0.0F);
        const bool add = repeated || target.accumulate;
        std::int64_t out = n * size_;
        for (const Stretch& stretch : stretches_) {
            const std::int64_t a = n * a_size_ + stretch.a;
            const std::int64_t b = n * b_size_ + stretch.b;
            float* to = gradient + (first ? stretch.a : stretch.b);
            if (step == 0) {
                double sum = 0.0;
                for (std::int64_t i = 0; i < length_; ++i)
                    sum += static_cast<double>(slope(a + i * a_step_, b + i * b_step_, out + i));
                *to += static_cast<float>(sum);
            } else if (add) {
                for (std::int64_t i = 0; i < length_; ++i)
                    to[i] += slope(a + i * a_step_, b + i * b_step_, out + i);
            } else {
                for (std::int64_t i = 0; i < length_; ++i)
                    to[i] = slope(a + i * a_step_, b + i * b_step_, out + i);
            }
            out += length_;
        }
    });
}

void ArithmeticKernel::backward(std::int64_t batch, const float* a, const float* b,
                                const float* output_gradient, Target a_target, Target b_target) const {
    const float* g = output_gradient;
    // The second operand first: the gradient of the first may take the place of the output's.
    const auto both = [&](auto a_slope, auto b_slope) {
        if (b_target.gradient != nullptr) operand_backward(batch, false, b_target, b_slope);
        if (a_target.gradient != nullptr && !(a_target.gradient == g && kind_ <= ArithmeticKind::subtract))
            operand_backward(batch, true, a_target, a_slope);
    };
    using Place = std::int64_t;
    const auto pass = [=](Place, Place, Place o) { return g[o]; };
    switch (kind_) {
        case ArithmeticKind::add:
            return both(pass, pass);
        case ArithmeticKind::subtract:
            return both(pass, [=](Place, Place, Place o) { return -g[o]; });
        case ArithmeticKind::multiply:
            return both([=](Place, Place y, Place o) { return g[o] * b[y]; },
                        [=](Place x, Place, Place o) { return g[o] * a[x]; });
        case ArithmeticKind::divide:
            return both([=](Place, Place y, Place o) { return g[o] / b[y]; },
                        [=](Place x, Place y, Place o) { return -g[o] * a[x] / (b[y] * b[y]); });
        case ArithmeticKind::power:
            // d(a^b)/db = a^b ln a, taken as 0 where a is not positive and the logarithm does not exist.
            return both(
                [=](Place x, Place y, Place o) {
                    return b[y] == 2.0F ? g[o] * 2.0F * a[x] : g[o] * b[y] * std::pow(a[x], b[y] - 1.0F);
                },
                [=](Place x, Place y, Place o) {
                    return a[x] > 0.0F ? g[o] * std::pow(a[x], b[y]) * std::log(a[x]) : 0.0F;
                });
        // Of equal elements the first has the gradient.
        case ArithmeticKind::maximum:
            return both([=](Place x, Place y, Place o) { return a[x] >= b[y] ? g[o] : 0.0F; },
                        [=](Place x, Place y, Place o) { return a[x] >= b[y] ? 0.0F : g[o]; });
        case ArithmeticKind::minimum:
            return both([=](Place x, Place y, Place o) { return a[x] <= b[y] ? g[o] : 0.0F; },
                        [=](Place x, Place y, Place o) { return a[x] <= b[y] ? 0.0F : g[o]; });
    }
}

}  // namespace jevrin::inline v1
