#include "jevrin/tensor/rearrangement.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/transposition.hpp"

#include <algorithm>
#include <cassert>
#include <limits>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t floats_per_task = 32 * 1024;

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
    std::vector<bool> seen(static_cast<std::size_t>(input_size_ / length_), false);
    once_ = true;
    for (const std::int32_t source : sources_) {
        if (source < 0) continue;
        once_ = once_ && !seen[static_cast<std::size_t>(source)];
        seen[static_cast<std::size_t>(source)] = true;
    }
    all_ = std::ranges::find(seen, false) == seen.end();
}

Rearrangement::Turning Rearrangement::turning(const Shape& input, std::span<const std::int64_t> permutation) {
    const std::size_t last = input.size() - 1;
    const auto becomes_last = static_cast<std::size_t>(permutation[last]);
    if (becomes_last == last) return {};
    const auto last_becomes = static_cast<std::size_t>(
        std::ranges::find(permutation, static_cast<std::int64_t>(last)) - permutation.begin());
    Shape from_steps(input.size(), 1);
    Shape to_steps(input.size(), 1);
    for (std::size_t d = last; d > 0; --d) {
        from_steps[d - 1] = from_steps[d] * input[d];
        to_steps[d - 1] = to_steps[d] * input[static_cast<std::size_t>(permutation[d])];
    }
    Turning turning{.rows = input[becomes_last],
                    .columns = input[last],
                    .from_stride = from_steps[becomes_last],
                    .to_stride = to_steps[last_becomes],
                    .matrices = {{}}};
    for (std::size_t d = 0; d < last; ++d) {
        if (d == last_becomes) continue;
        const auto from = static_cast<std::size_t>(permutation[d]);
        std::vector<Turning::Matrix> matrices;
        for (const Turning::Matrix& matrix : turning.matrices)
            for (std::int64_t i = 0; i < input[from]; ++i)
                matrices.push_back({matrix.from + i * from_steps[from], matrix.to + i * to_steps[d]});
        turning.matrices = std::move(matrices);
    }
    return turning;
}

Rearrangement Rearrangement::transpose(const Shape& input, std::span<const std::int64_t> permutation) {
    Rearrangement transposed(input, all_places(input), permutation);
    if (transposed.length_ == 1 && input.size() > 1) transposed.turning_ = turning(input, permutation);
    return transposed;
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

// work(item, matrix) for all of them.
template <typename Work>
void Rearrangement::for_matrices(std::int64_t batch, const Work& work) const {
    const std::int64_t matrices = std::ssize(turning_.matrices);
    const std::int64_t tasks = std::min(batch * matrices, divide_up(batch * output_size_, floats_per_task));
    parallel_for(tasks, [&](std::int64_t task) {
        const IndexRange range = chunk_range(batch * matrices, tasks, task);
        for (std::int64_t i = range.begin; i < range.end; ++i)
            work(i / matrices, turning_.matrices[static_cast<std::size_t>(i % matrices)]);
    });
}

// work(item, source, target, elements) for each run of stretches that follow each other on both sides, in
// elements; source -1 for padding. Each item is cut into so many parts, which run at the same time.
template <typename Work>
void Rearrangement::for_stretches(std::int64_t batch, std::int64_t parts, const Work& work) const {
    const std::int64_t count = std::ssize(sources_);
    const auto source = [&](std::int64_t i) { return std::int64_t{sources_[static_cast<std::size_t>(i)]}; };
    parallel_for(batch * parts, [&](std::int64_t task) {
        const IndexRange range = chunk_range(count, parts, task % parts);
        for (std::int64_t i = range.begin, end = i; i < range.end; i = end) {
            const std::int64_t first = source(i);
            for (++end; end < range.end; ++end)
                if (source(end) != (first < 0 ? -1 : first + end - i)) break;
            work(task / parts, first < 0 ? -1 : first * length_, i * length_, (end - i) * length_);
        }
    });
}

void Rearrangement::forward(std::int64_t batch, const float* input, float* output) const {
    const Turning& t = turning_;
    if (!t.matrices.empty())
        return for_matrices(batch, [&](std::int64_t n, const Turning::Matrix& m) {
            jevrin::transpose(t.rows, t.columns, input + n * input_size_ + m.from, t.from_stride,
                              output + n * output_size_ + m.to, t.to_stride);
        });
    const std::int64_t parts =
        std::clamp<std::int64_t>(output_size_ / floats_per_task, 1, std::ssize(sources_));
    for_stretches(batch, parts, [&](std::int64_t n, std::int64_t from, std::int64_t to, std::int64_t count) {
        if (from < 0)
            std::fill_n(output + n * output_size_ + to, count, value_);
        else
            std::copy_n(input + n * input_size_ + from, count, output + n * output_size_ + to);
    });
}

void Rearrangement::backward(std::int64_t batch, const float* output_gradient, bool accumulate,
                             float* input_gradient) const {
    const Turning& t = turning_;
    if (!t.matrices.empty() && !accumulate)
        return for_matrices(batch, [&](std::int64_t n, const Turning::Matrix& m) {
            jevrin::transpose(t.columns, t.rows, output_gradient + n * output_size_ + m.to, t.to_stride,
                              input_gradient + n * input_size_ + m.from, t.from_stride);
        });
    if (!accumulate && !(once_ && all_))
        parallel_for(
            batch, [&](std::int64_t n) { std::fill_n(input_gradient + n * input_size_, input_size_, 0.0F); });
    // What goes to several places is added up in their order.
    const std::int64_t parts =
        once_ ? std::clamp<std::int64_t>(output_size_ / floats_per_task, 1, std::ssize(sources_)) : 1;
    const bool replaces = once_ && !accumulate;
    for_stretches(batch, parts, [&](std::int64_t n, std::int64_t to, std::int64_t from, std::int64_t count) {
        if (to < 0) return;
        const float* gradient = output_gradient + n * output_size_ + from;
        float* sum = input_gradient + n * input_size_ + to;
        if (replaces)
            std::copy_n(gradient, count, sum);
        else
            for (std::int64_t i = 0; i < count; ++i) sum[i] += gradient[i];
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
