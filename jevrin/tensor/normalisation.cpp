#include "jevrin/tensor/normalisation.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/element_loop.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <type_traits>

namespace jevrin::inline v1 {
namespace {

// Sums over the batch are cut into this many chunks of images, added in order.
constexpr std::int64_t sum_chunks = 8;

typedef float Floats __attribute__((vector_size(8 * sizeof(float))));
typedef double Doubles __attribute__((vector_size(8 * sizeof(double))));

// Eight channels at once, or a single one: the types of stored numbers and of sums.
struct EightChannels {
    using Stored = Floats;
    using Sum = Doubles;
    static constexpr std::int64_t count = 8;
    static Sum widen(Stored v) { return __builtin_convertvector(v, Doubles); }
};
struct OneChannel {
    using Stored = float;
    using Sum = double;
    static constexpr std::int64_t count = 1;
    static Sum widen(Stored v) { return static_cast<double>(v); }
};

template <typename Value, typename Element>
Value load(const Element* from) {
    Value v;
    std::memcpy(&v, from, sizeof(v));
    return v;
}

// The sums behind mean and variance, about the first pixel of each channel, so that a large common offset
// cancels no digits.
template <typename Lanes>
struct StatisticsTerms {
    using Stored = typename Lanes::Stored;
    using Sum = typename Lanes::Sum;
    const float* input;
    Sum origin;

    void add(std::int64_t place, Sum& a, Sum& b) const {
        const Sum d = Lanes::widen(load<Stored>(input + place)) - origin;
        a += d;
        b += d * d;
    }
};

// The sums of the gradient at the normalised value, and of that times the distance from the mean. A relu
// behind the normalisation passed what was positive.
template <typename Lanes, bool relu>
struct GradientTerms {
    using Stored = typename Lanes::Stored;
    using Sum = typename Lanes::Sum;
    const float* input;
    const float* output_gradient;
    Stored factor;
    Stored offset;
    Sum mean;

    void add(std::int64_t place, Sum& a, Sum& b) const {
        const Stored x = load<Stored>(input + place);
        Stored g = load<Stored>(output_gradient + place);
        if constexpr (relu) g = x * factor + offset > 0.0F ? g : Stored{};
        const Sum wide = Lanes::widen(g);
        a += wide;
        b += wide * (Lanes::widen(x) - mean);
    }
};

// Adds up the terms that make(Lanes(), channel) gives, over rows, for some vectors of channels side by side;
// the sums stay in registers.
template <typename Lanes, int vectors, typename Make>
void sum_block(const IndexRange& rows, std::int64_t channels, std::int64_t channel, const Make& make,
               double* first, double* second) {
    using Terms = decltype(make(Lanes(), std::int64_t{}));
    Terms terms[vectors];
    typename Lanes::Sum a[vectors] = {};
    typename Lanes::Sum b[vectors] = {};
    for (int v = 0; v < vectors; ++v) terms[v] = make(Lanes(), channel + v * Lanes::count);
    for (std::int64_t row = rows.begin; row < rows.end; ++row)
        for (int v = 0; v < vectors; ++v)
            terms[v].add(row * channels + channel + v * Lanes::count, a[v], b[v]);
    std::memcpy(first + channel, a, sizeof(a));
    std::memcpy(second + channel, b, sizeof(b));
}

// Two sums for each channel over all pixels of the batch: [first sums, second sums].
template <typename Make>
void sum_channels(const NormalisationShape& shape, std::int64_t batch, const Make& make,
                  std::vector<double>& sums) {
    const std::int64_t channels = shape.channels;
    const std::int64_t chunks = std::min(batch, sum_chunks);
    thread_local std::vector<double> partials;
    partials.resize(static_cast<std::size_t>(chunks * 2 * channels));
    double* all = partials.data();
    parallel_for(chunks, [&](std::int64_t chunk) {
        double* first = all + chunk * 2 * channels;
        double* second = first + channels;
        const IndexRange images = chunk_range(batch, chunks, chunk);
        const IndexRange rows{images.begin * shape.pixels, images.end * shape.pixels};
        std::int64_t c = 0;
        for (; c + 32 <= channels; c += 32)
            sum_block<EightChannels, 4>(rows, channels, c, make, first, second);
        for (; c + 8 <= channels; c += 8) sum_block<EightChannels, 1>(rows, channels, c, make, first, second);
        for (; c < channels; ++c) sum_block<OneChannel, 1>(rows, channels, c, make, first, second);
    });
    sums.assign(static_cast<std::size_t>(2 * channels), 0.0);
    for (std::int64_t chunk = 0; chunk < chunks; ++chunk)
        for (std::int64_t c = 0; c < 2 * channels; ++c)
            sums[static_cast<std::size_t>(c)] += all[chunk * 2 * channels + c];
}

}  // namespace

void measure_statistics(const NormalisationShape& shape, std::int64_t batch, const float* input,
                        BatchStatistics& statistics) {
    const auto channels = static_cast<std::size_t>(shape.channels);
    const double count = static_cast<double>(batch * shape.pixels);
    thread_local std::vector<double> sums;
    if (batch > 0)
        sum_channels(
            shape, batch,
            [=](auto lanes, std::int64_t c) {
                using Lanes = decltype(lanes);
                return StatisticsTerms<Lanes>{input, Lanes::widen(load<typename Lanes::Stored>(input + c))};
            },
            sums);
    statistics.mean.assign(channels, 0.0);
    statistics.variance.assign(channels, 0.0);
    if (batch == 0) return;  // an empty shard
    for (std::size_t c = 0; c < channels; ++c) {
        const double offset = sums[c] / count;
        statistics.mean[c] = input[c] + offset;
        statistics.variance[c] = std::max(0.0, sums[channels + c] / count - offset * offset);
    }
}

namespace {

// The normalisation as factor * input + offset, for each channel: [factors, offsets].
const float* affine_form(const NormalisationShape& shape, const BatchStatistics& statistics,
                         const float* scale, const float* shift) {
    const auto channels = static_cast<std::size_t>(shape.channels);
    thread_local std::vector<float> form;
    form.resize(2 * channels);
    for (std::size_t c = 0; c < channels; ++c) {
        const double factor =
            scale[c] / std::sqrt(statistics.variance[c] + static_cast<double>(shape.epsilon));
        form[c] = static_cast<float>(factor);
        form[channels + c] = static_cast<float>(shift[c] - statistics.mean[c] * factor);
    }
    return form.data();
}

// Calls run(relu) with a compile-time constant.
template <typename Run>
void with_relu(AfterNormalisation after, Run run) {
    if (after == AfterNormalisation::relu)
        run(std::true_type());
    else
        run(std::false_type());
}

}  // namespace

void normalise(const NormalisationShape& shape, std::int64_t batch, const float* input,
               const BatchStatistics& statistics, const float* scale, const float* shift,
               AfterNormalisation after, float* output) {
    const std::int64_t channels = shape.channels;
    const float* factor = affine_form(shape, statistics, scale, shift);
    const float* offset = factor + channels;
    with_relu(after, [&](auto relu) {
        for_rows(batch * shape.pixels, channels, [&](std::int64_t row) {
            const float* in = input + row * channels;
            float* out = output + row * channels;
            for (std::int64_t c = 0; c < channels; ++c) {
                const float value = in[c] * factor[c] + offset[c];
                out[c] = relu ? std::max(value, 0.0F) : value;
            }
        });
    });
}

void normalise_backward(const NormalisationShape& shape, std::int64_t batch, const float* input,
                        const BatchStatistics& statistics, StatisticsKind kind, const float* scale,
                        const float* shift, AfterNormalisation after, const float* output_gradient,
                        const NormalisationGradients& gradients, const SharedNormalisation* shared) {
    const auto channels = static_cast<std::size_t>(shape.channels);
    const double count = shared != nullptr ? shared->rows : static_cast<double>(batch * shape.pixels);
    const double* mean = statistics.mean.data();
    const float* scaled = affine_form(shape, statistics, scale, shift);
    const float* offset = scaled + channels;
    thread_local std::vector<double> sums;
    thread_local std::vector<float> terms;
    terms.resize(3 * channels);
    with_relu(after, [&](auto relu) {
        // The gradient that reaches the normalised value; the relu passed what was positive.
        const auto reaching = [=](std::int64_t i, std::int64_t c) {
            const float gradient = output_gradient[i];
            return !relu || input[i] * scaled[c] + offset[c] > 0.0F ? gradient : 0.0F;
        };
        sum_channels(
            shape, batch,
            [=](auto lanes, std::int64_t c) {
                using Lanes = decltype(lanes);
                using Stored = typename Lanes::Stored;
                return GradientTerms<Lanes, decltype(relu)::value>{
                    input, output_gradient, load<Stored>(scaled + c), load<Stored>(offset + c),
                    load<typename Lanes::Sum>(mean + c)};
            },
            sums);
        for (std::size_t c = 0; c < channels; ++c) {
            const double inverse =
                1.0 / std::sqrt(statistics.variance[c] + static_cast<double>(shape.epsilon));
            gradients.scale[c] = static_cast<float>(sums[channels + c] * inverse);
            gradients.shift[c] = static_cast<float>(sums[c]);
        }
        if (shared != nullptr) shared->add(sums);
        // dx = scale/s * (dy - mean(dy) - (x - mean) * mean(dy * (x - mean)) / s^2): Ioffe & Szegedy 2015,
        // section 3. With stored statistics only the first term is left.
        for (std::size_t c = 0; c < channels; ++c) {
            const double inverse =
                1.0 / std::sqrt(statistics.variance[c] + static_cast<double>(shape.epsilon));
            const double factor = scale[c] * inverse;
            const double dependent = kind == StatisticsKind::of_batch ? 1.0 : 0.0;
            const double slope = -dependent * factor * sums[channels + c] / count * inverse * inverse;
            terms[c] = static_cast<float>(factor);
            terms[channels + c] = static_cast<float>(slope);
            terms[2 * channels + c] =
                static_cast<float>(-dependent * factor * sums[c] / count - slope * mean[c]);
        }
        if (gradients.input == nullptr) return;
        const float* factor = terms.data();
        const float* slope = factor + channels;
        const float* rest = slope + channels;
        for_rows(batch * shape.pixels, shape.channels, [&](std::int64_t row) {
            const std::int64_t begin = row * shape.channels;
            float* out = gradients.input + begin;
            if (gradients.accumulate)
                for (std::int64_t c = 0; c < shape.channels; ++c)
                    out[c] += reaching(begin + c, c) * factor[c] + input[begin + c] * slope[c] + rest[c];
            else
                for (std::int64_t c = 0; c < shape.channels; ++c)
                    out[c] = reaching(begin + c, c) * factor[c] + input[begin + c] * slope[c] + rest[c];
        });
    });
}

}  // namespace jevrin::inline v1
