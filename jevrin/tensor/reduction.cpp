#include "jevrin/tensor/reduction.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <algorithm>
#include <limits>
#include <vector>

namespace jevrin::inline v1 {

void sum_rows(std::int64_t rows, std::int64_t columns, const float* values, float* sums) {
    constexpr std::int64_t most_chunks = 8;
    const std::int64_t chunks = std::min(rows, most_chunks);
    thread_local std::vector<double> partials;
    partials.assign(static_cast<std::size_t>(chunks * columns), 0.0);
    double* all = partials.data();
    parallel_for(chunks, [&](std::int64_t chunk) {
        double* sum = all + chunk * columns;
        const IndexRange range = chunk_range(rows, chunks, chunk);
        for (std::int64_t row = range.begin; row < range.end; ++row)
            for (std::int64_t c = 0; c < columns; ++c)
                sum[c] += static_cast<double>(values[row * columns + c]);
    });
    for (std::int64_t c = 0; c < columns; ++c) {
        double sum = 0.0;
        for (std::int64_t chunk = 0; chunk < chunks; ++chunk) sum += all[chunk * columns + c];
        sums[c] = static_cast<float>(sum);
    }
}

ReductionKernel::ReductionKernel(ReductionKind kind, const Shape& input, std::span<const std::int64_t> axes)
    : kind_(kind), input_size_(element_count(input)) {
    Shape steps(input.size(), 0);
    for (std::size_t d = input.size(); d-- > 0;) {
        if (std::find(axes.begin(), axes.end(), static_cast<std::int64_t>(d)) != axes.end()) continue;
        steps[d] = output_size_;
        output_size_ *= input[d];
    }
    Shape place(input.size(), 0);
    for (std::int64_t i = 0; i < input_size_; ++i) {
        std::int64_t target = 0;
        for (std::size_t d = 0; d < place.size(); ++d) target += place[d] * steps[d];
        targets_.push_back(static_cast<std::int32_t>(target));
        for (std::size_t d = place.size(); d-- > 0;) {
            if (++place[d] < input[d]) break;
            place[d] = 0;
        }
    }
}

void ReductionKernel::forward(std::int64_t batch, const float* input, float* output,
                              std::int32_t* winners) const {
    parallel_for(batch, [&](std::int64_t n) {
        const float* in = input + n * input_size_;
        float* out = output + n * output_size_;
        if (kind_ == ReductionKind::maximum) {
            std::fill_n(out, output_size_, -std::numeric_limits<float>::infinity());
            std::int32_t* winner = winners == nullptr ? nullptr : winners + n * output_size_;
            if (winner != nullptr) std::fill_n(winner, output_size_, -1);
            for (std::int64_t i = 0; i < input_size_; ++i) {
                const std::int32_t target = targets_[static_cast<std::size_t>(i)];
                if (!(in[i] > out[target]) && (winner == nullptr || winner[target] >= 0)) continue;
                out[target] = in[i];
                if (winner != nullptr) winner[target] = static_cast<std::int32_t>(i);
            }
            return;
        }
        const Scratch memory(2 * output_size_);
        auto* sums = reinterpret_cast<double*>(memory.data());
        std::fill_n(sums, output_size_, 0.0);
        for (std::int64_t i = 0; i < input_size_; ++i)
            sums[targets_[static_cast<std::size_t>(i)]] += static_cast<double>(in[i]);
        const double share = kind_ == ReductionKind::mean
                                 ? static_cast<double>(output_size_) / static_cast<double>(input_size_)
                                 : 1.0;
        for (std::int64_t o = 0; o < output_size_; ++o) out[o] = static_cast<float>(sums[o] * share);
    });
}

void ReductionKernel::backward(std::int64_t batch, const float* output_gradient, const std::int32_t* winners,
                               bool accumulate, float* input_gradient) const {
    const float share = kind_ == ReductionKind::mean
                            ? static_cast<float>(output_size_) / static_cast<float>(input_size_)
                            : 1.0F;
    parallel_for(batch, [&](std::int64_t n) {
        const float* out = output_gradient + n * output_size_;
        float* in = input_gradient + n * input_size_;
        if (!accumulate) std::fill_n(in, input_size_, 0.0F);
        if (kind_ == ReductionKind::maximum) {
            for (std::int64_t o = 0; o < output_size_; ++o) in[winners[n * output_size_ + o]] += out[o];
            return;
        }
        for (std::int64_t i = 0; i < input_size_; ++i)
            in[i] += out[targets_[static_cast<std::size_t>(i)]] * share;
    });
}

}  // namespace jevrin::inline v1
