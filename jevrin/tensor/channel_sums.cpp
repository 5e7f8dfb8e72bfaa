#include "jevrin/tensor/channel_sums.hpp"

#include "jevrin/tensor/channel_strips.hpp"
#include "jevrin/tensor/integer_division.hpp"

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

// Distances from the first pixel, and their squares.
template <typename Strip>
struct StatisticsTerms {
    using Sum = typename Strip::Lanes::Sum;
    const float* map;
    Sum origin[Strip::vectors];

    StatisticsTerms(const float* values, const float* first_pixel) : map(values) {
        for (int v = 0; v < Strip::vectors; ++v) origin[v] = Strip::load(first_pixel, v);
    }
    void fetch(std::int64_t place) const { __builtin_prefetch(map + place); }
    void add(std::int64_t place, Sum* a, Sum* b) const {
        for (int v = 0; v < Strip::vectors; ++v) {
            const Sum d = Strip::load(map + place, v) - origin[v];
            a[v] += d;
            b[v] += d * d;
        }
    }
};

constexpr std::int64_t combined_channels = 32;  // by one task

}  // namespace

ChannelSums::ChannelSums(std::int64_t pieces, std::int64_t channels) : pieces_(pieces), channels_(channels) {
    thread_local std::vector<double> memory;
    const auto size = static_cast<std::size_t>(pieces * (1 + 2 * channels));
    if (memory.size() < size) memory.resize(size);
    counts_ = memory.data();
    sums_ = memory.data() + pieces;
}

void ChannelSums::add(std::int64_t piece, IndexRange pixels, IndexRange columns, const float* map) {
    double* mean = sums_of(piece);
    double* squares = mean + channels_;
    const float* first_pixel = map + pixels.begin * channels_;
    const auto count = static_cast<double>(pixels.end - pixels.begin);
    if (columns.begin == 0) counts_[piece] = count;
    std::fill(mean + columns.begin, mean + columns.end, 0.0);
    std::fill(squares + columns.begin, squares + columns.end, 0.0);
    sum_rows(
        pixels, columns, channels_,
        [=](auto strip, std::int64_t c) { return StatisticsTerms<decltype(strip)>(map, first_pixel + c); },
        mean, squares);
    for (std::int64_t c = columns.begin; c < columns.end; ++c) {
        const double distance = mean[c] / count;
        squares[c] = std::max(0.0, squares[c] - count * distance * distance);
        mean[c] = static_cast<double>(first_pixel[c]) + distance;
    }
}

void ChannelSums::finish(BatchStatistics& statistics) const {
    statistics.mean.assign(static_cast<std::size_t>(channels_), 0.0);
    statistics.variance.assign(static_cast<std::size_t>(channels_), 0.0);
    if (pieces_ == 0) return;
    double count = 0.0;
    for (std::int64_t piece = 0; piece < pieces_; ++piece) count += counts_[piece];
    double* mean = statistics.mean.data();
    double* variance = statistics.variance.data();
    parallel_for(divide_up(channels_, combined_channels), [&](std::int64_t task) {
        const std::int64_t begin = task * combined_channels;
        const std::int64_t end = std::min(begin + combined_channels, channels_);
        for (std::int64_t piece = 0; piece < pieces_; ++piece)
            for (std::int64_t c = begin; c < end; ++c) mean[c] += counts_[piece] / count * sums_of(piece)[c];
        for (std::int64_t piece = 0; piece < pieces_; ++piece)
            for (std::int64_t c = begin; c < end; ++c) {
                const double apart = sums_of(piece)[c] - mean[c];
                variance[c] += sums_of(piece)[channels_ + c] + counts_[piece] * apart * apart;
            }
        for (std::int64_t c = begin; c < end; ++c) variance[c] /= count;
    });
}

}  // namespace jevrin::inline v1
