#include "jevrin/tensor/rearrangement.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/element_loop.hpp"

#include <algorithm>
#include <cassert>
#include <limits>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

std::vector<std::vector<std::int64_t>> all_places(const Shape& shape) {
    std::vector<std::vector<std::int64_t>> places;
    for (const std::int64_t size : shape) {
        places.emplace_back(static_cast<std::size_t>(size));
        std::iota(places.back().begin(), places.back().end(), 0);
    }
    return places;
}

std::vector<std::int64_t> identity(std::size_t dimensions) {
    std::vector<std::int64_t> order(dimensions);
    std::iota(order.begin(), order.end(), 0);
    return order;
}

bool is_all_of(const std::vector<std::int64_t>& places, std::int64_t size) {
    if (std::ssize(places) != size) return false;
    for (std::size_t i = 0; i < places.size(); ++i)
        if (places[i] != static_cast<std::int64_t>(i)) return false;
    return true;
}

}  // namespace

Rearrangement::Rearrangement(const Shape& input, const std::vector<std::vector<std::int64_t>>& places,
                             std::span<const std::int64_t> permutation)
    : input_size_(element_count(input)) {
    const std::size_t dimensions = input.size();
    // Trailing dimensions that stay whole and in place move together.
    std::size_t first = dimensions;
    while (first > 0 && permutation[first - 1] == static_cast<std::int64_t>(first - 1) &&
           is_all_of(places[first - 1], input[first - 1])) {
        --first;
        length_ *= input[first];
    }
    Shape steps(dimensions, 1);
    for (std::size_t d = dimensions; d-- > 1;) steps[d - 1] = steps[d] * input[d];
    output_size_ = length_;
    for (std::size_t d = 0; d < first; ++d)
        output_size_ *= std::ssize(places[static_cast<std::size_t>(permutation[d])]);
    assert(input_size_ / length_ < std::numeric_limits<std::int32_t>::max());

    std::vector<std::size_t> place(first, 0);
    for (std::int64_t i = 0; i < output_size_ / length_; ++i) {
        std::int64_t source = 0;
        bool padding = false;
        for (std::size_t d = 0; d < first; ++d) {
            const auto from = static_cast<std::size_t>(permutation[d]);
            const std::int64_t at = places[from][place[d]];
            padding = padding || at < 0;
            source += at * steps[from];
        }
        sources_.push_back(padding ? -1 : static_cast<std::int32_t>(source / length_));
        for (std::size_t d = first; d-- > 0;) {
            if (++place[d] < places[static_cast<std::size_t>(permutation[d])].size()) break;
            place[d] = 0;
        }
    }
}

Rearrangement Rearrangement::transpose(const Shape& input, std::span<const std::int64_t> permutation) {
    return {input, all_places(input), permutation};
}

Rearrangement Rearrangement::slice(const Shape& input, std::span<const Stretch> stretches) {
    std::vector<std::vector<std::int64_t>> places;
    for (const Stretch& stretch : stretches) {
        places.emplace_back();
        for (std::int64_t i = 0; i < stretch.count; ++i)
            places.back().push_back(stretch.start + i * stretch.step);
    }
    return {input, places, identity(input.size())};
}

Rearrangement Rearrangement::pad(const Shape& input, std::span<const std::int64_t> before,
                                 std::span<const std::int64_t> after, PaddingKind kind, float value) {
    std::vector<std::vector<std::int64_t>> places;
    for (std::size_t d = 0; d < input.size(); ++d) {
        places.emplace_back();
        const std::int64_t last = input[d] - 1;
        for (std::int64_t i = -before[d]; i <= last + after[d]; ++i) {
            std::int64_t at = i;
            if (i < 0 || i > last) {
                if (kind == PaddingKind::constant) at = -1;
                if (kind == PaddingKind::edge) at = std::clamp<std::int64_t>(i, 0, last);
                if (kind == PaddingKind::reflect) at = i < 0 ? -i : 2 * last - i;
            }
            places.back().push_back(at);
        }
    }
    Rearrangement padded(input, places, identity(input.size()));
    padded.value_ = value;
    return padded;
}

Rearrangement Rearrangement::gather(const Shape& input, std::int64_t axis,
                                    std::span<const std::int64_t> places) {
    std::vector<std::vector<std::int64_t>> all = all_places(input);
    all[static_cast<std::size_t>(axis)].assign(places.begin(), places.end());
    return {input, all, identity(input.size())};
}

void Rearrangement::forward(std::int64_t batch, const float* input, float* output) const {
    parallel_for(batch, [&](std::int64_t n) {
        const float* from = input + n * input_size_;
        float* to = output + n * output_size_;
        for (const std::int32_t source : sources_) {
            if (source < 0)
                std::fill_n(to, length_, value_);
            else if (length_ == 1)
                *to = from[source];
            else
                std::copy_n(from + source * length_, length_, to);
            to += length_;
        }
    });
}

void Rearrangement::backward(std::int64_t batch, const float* output_gradient, bool accumulate,
                             float* input_gradient) const {
    parallel_for(batch, [&](std::int64_t n) {
        const float* from = output_gradient + n * output_size_;
        float* to = input_gradient + n * input_size_;
        if (!accumulate) std::fill_n(to, input_size_, 0.0F);
        for (const std::int32_t source : sources_) {
            if (source >= 0)
                for (std::int64_t i = 0; i < length_; ++i) to[source * length_ + i] += from[i];
            from += length_;
        }
    });
}

void concatenate(std::int64_t outer, std::span<const std::int64_t> sizes,
                 std::span<const float* const> inputs, float* output) {
    const std::int64_t total = std::accumulate(sizes.begin(), sizes.end(), std::int64_t{0});
    std::int64_t begin = 0;
    for (std::size_t k = 0; k < sizes.size(); ++k) {
        const std::int64_t size = sizes[k];
        const float* from = inputs[k];
        float* to = output + begin;
        for_rows(outer, size,
                 [&](std::int64_t row) { std::copy_n(from + row * size, size, to + row * total); });
        begin += size;
    }
}

void concatenate_backward(std::int64_t outer, std::span<const std::int64_t> sizes, std::size_t input,
                          const float* output_gradient, bool accumulate, float* input_gradient) {
    const std::int64_t total = std::accumulate(sizes.begin(), sizes.end(), std::int64_t{0});
    const std::int64_t size = sizes[input];
    const float* from =
        output_gradient +
        std::accumulate(sizes.begin(), sizes.begin() + static_cast<std::ptrdiff_t>(input), std::int64_t{0});
    for_rows(outer, size, [&](std::int64_t row) {
        float* to = input_gradient + row * size;
        if (accumulate)
            for (std::int64_t i = 0; i < size; ++i) to[i] += from[row * total + i];
        else
            std::copy_n(from + row * total, size, to);
    });
}

}  // namespace jevrin::inline v1
