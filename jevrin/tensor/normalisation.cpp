#include "jevrin/tensor/normalisation.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/element_loop.hpp"
#include "jevrin/tensor/function_loops.hpp"

#include <algorithm>
#include <cassert>
#include <cmath>
#include <cstring>
#include <type_traits>

namespace jevrin::inline v1 {
namespace {

// Sums over the batch are cut into this many chunks of images, added in order.
constexpr std::int64_t sum_chunks = 8;
constexpr std::int64_t sum_block_elements = 2048;

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

// Some vectors of channels side by side: what kind, and how many.
template <typename LanesOf, int vectors_of>
struct Strip {
    using Lanes = LanesOf;
    static constexpr int vectors = vectors_of;
    static constexpr std::int64_t width = vectors * Lanes::count;
};

// The sums behind mean and variance, about the first pixel of each channel, so that a large common offset
// cancels no digits.
template <typename Strip>
struct StatisticsTerms {
    using Lanes = typename Strip::Lanes;
    using Sum = typename Lanes::Sum;
    const float* input;
    Sum origin[Strip::vectors];

    StatisticsTerms(const float* values, std::int64_t channel) : input(values) {
        for (int v = 0; v < Strip::vectors; ++v)
            origin[v] = Lanes::widen(load<typename Lanes::Stored>(input + channel + v * Lanes::count));
    }
    void fetch(std::int64_t place) const { __builtin_prefetch(input + place); }
    void add(std::int64_t place, Sum* a, Sum* b) const {
        for (int v = 0; v < Strip::vectors; ++v) {
            const Sum d =
                Lanes::widen(load<typename Lanes::Stored>(input + place + v * Lanes::count)) - origin[v];
            a[v] += d;
            b[v] += d * d;
        }
    }
};

// The gradient that reaches the normalised, scaled and shifted value of an element: the output gradient times
// the slope of the function behind it.
template <typename Value, typename Slope>
struct ReachingGradient {
    const float* input;
    const float* output;  // null unless something was added
    const float* output_gradient;
    const float* factor;
    const float* offset;
    Value value;
    Slope slope;

    template <bool summed>
    float at(std::int64_t place, std::int64_t channel) const {
        if constexpr (summed) {
            static_assert(!Slope::of_input);
            return output_gradient[place] * slope(output[place]);
        } else {
            const float before = input[place] * factor[channel] + offset[channel];
            return output_gradient[place] * slope(Slope::of_input ? before : value(before));
        }
    }
};

// The sums of that gradient, and of it times the distance from the mean.
template <typename Strip, bool summed, typename Gradient>
struct GradientTerms {
    using Lanes = typename Strip::Lanes;
    using Stored = typename Lanes::Stored;
    using Sum = typename Lanes::Sum;
    const Gradient& gradient;
    std::int64_t channel;
    Sum mean[Strip::vectors];

    GradientTerms(const Gradient& of, const double* means, std::int64_t first)
        : gradient(of), channel(first) {
        std::memcpy(mean, means + first, sizeof(mean));
    }
    void fetch(std::int64_t place) const {
        __builtin_prefetch(gradient.input + place);
        __builtin_prefetch(gradient.output_gradient + place);
        if constexpr (summed) __builtin_prefetch(gradient.output + place);
    }
    void add(std::int64_t place, Sum* a, Sum* b) const {
        float reaching[Strip::width];
        for (std::int64_t lane = 0; lane < Strip::width; ++lane)
            reaching[lane] = gradient.template at<summed>(place + lane, channel + lane);
        for (int v = 0; v < Strip::vectors; ++v) {
            const Sum wide = Lanes::widen(load<Stored>(reaching + v * Lanes::count));
            a[v] += wide;
            b[v] += wide * (Lanes::widen(load<Stored>(gradient.input + place + v * Lanes::count)) - mean[v]);
        }
    }
};

// Adds the terms that make(Strip(), channel) gives, over rows, for the channels of a strip; the sums stay in
// registers, and the next block of rows is fetched meanwhile.
template <typename Strip, typename Make>
void sum_block(const IndexRange& rows, std::int64_t channels, std::int64_t channel, const Make& make,
               double* first, double* second) {
    using Lanes = typename Strip::Lanes;
    constexpr std::int64_t line = 16;
    const auto terms = make(Strip(), channel);
    typename Lanes::Sum a[Strip::vectors];
    typename Lanes::Sum b[Strip::vectors];
    std::memcpy(a, first + channel, sizeof(a));
    std::memcpy(b, second + channel, sizeof(b));
    const std::int64_t ahead = (rows.end - rows.begin) * channels;
    for (std::int64_t row = rows.begin; row < rows.end; ++row) {
        const std::int64_t place = row * channels + channel;
        for (std::int64_t c = 0; c + line <= Strip::width; c += line) terms.fetch(place + ahead + c);
        terms.add(place, a, b);
    }
    std::memcpy(first + channel, a, sizeof(a));
    std::memcpy(second + channel, b, sizeof(b));
}

// Two sums for each channel over all pixels of the batch, of the terms that make() gives: [first sums, second
// sums].
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
        const std::int64_t end = images.end * shape.pixels;
        std::fill_n(first, 2 * channels, 0.0);
        // Blocks of rows that stay in the first-level cache while the channels are gone through.
        const std::int64_t step = std::max<std::int64_t>(1, sum_block_elements / channels);
        for (std::int64_t row = images.begin * shape.pixels; row < end; row += step) {
            const IndexRange rows{row, std::min(row + step, end)};
            std::int64_t c = 0;
            for (; c + 32 <= channels; c += 32)
                sum_block<Strip<EightChannels, 4>>(rows, channels, c, make, first, second);
            for (; c + 8 <= channels; c += 8)
                sum_block<Strip<EightChannels, 1>>(rows, channels, c, make, first, second);
            for (; c < channels; ++c) sum_block<Strip<OneChannel, 1>>(rows, channels, c, make, first, second);
        }
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
            [=](auto strip, std::int64_t c) { return StatisticsTerms<decltype(strip)>(input, c); }, sums);
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

// Calls run(summed) with a compile-time constant.
template <typename Run>
void with_summed(bool summed, Run run) {
    if (summed)
        run(std::true_type());
    else
        run(std::false_type());
}

// The input gradient as output gradient * factor + input * slope + rest, for each channel.
struct GradientForm {
    const float* factor;
    const float* slope;
    const float* rest;
};

// dx = scale/s * (dy - mean(dy) - (x - mean) * mean(dy * (x - mean)) / s^2): Ioffe & Szegedy 2015, section 3.
// With stored statistics only the first term is left.
GradientForm gradient_form(const NormalisationShape& shape, const BatchStatistics& statistics,
                           StatisticsKind kind, const float* scale, const std::vector<double>& sums,
                           double count) {
    const auto channels = static_cast<std::size_t>(shape.channels);
    thread_local std::vector<float> terms;
    terms.resize(3 * channels);
    const double dependent = kind == StatisticsKind::of_batch ? 1.0 : 0.0;
    for (std::size_t c = 0; c < channels; ++c) {
        const double inverse = 1.0 / std::sqrt(statistics.variance[c] + static_cast<double>(shape.epsilon));
        const double factor = scale[c] * inverse;
        const double slope = -dependent * factor * sums[channels + c] / count * inverse * inverse;
        terms[c] = static_cast<float>(factor);
        terms[channels + c] = static_cast<float>(slope);
        terms[2 * channels + c] =
            static_cast<float>(-dependent * factor * sums[c] / count - slope * statistics.mean[c]);
    }
    return {terms.data(), terms.data() + channels, terms.data() + 2 * channels};
}

// target[c] (+)= value(c) for the channels of a row. The target may be an array that value(c) reads at c.
template <typename Value>
void assign_row(std::int64_t channels, bool accumulate, float* target, Value value) {
    if (accumulate) {
#pragma GCC ivdep
        for (std::int64_t c = 0; c < channels; ++c) target[c] += value(c);
    } else {
#pragma GCC ivdep
        for (std::int64_t c = 0; c < channels; ++c) target[c] = value(c);
    }
}

}  // namespace

void normalise(const NormalisationShape& shape, std::int64_t batch, const float* input,
               const BatchStatistics& statistics, const float* scale, const float* shift, const float* added,
               const Function& function, float* output) {
    const std::int64_t channels = shape.channels;
    const float* factor = affine_form(shape, statistics, scale, shift);
    const float* offset = factor + channels;
    with_function(function, [&](auto value, auto) {
        for_rows(batch * shape.pixels, channels, [&](std::int64_t row) {
            const float* in = input + row * channels;
            const float* more = added + row * channels;
            float* out = output + row * channels;
            if (added == nullptr)
                assign_row(channels, false, out,
                           [=](std::int64_t c) { return value(in[c] * factor[c] + offset[c]); });
            else
                assign_row(channels, false, out,
                           [=](std::int64_t c) { return value(in[c] * factor[c] + offset[c] + more[c]); });
        });
    });
}

void normalise_backward(const NormalisationShape& shape, std::int64_t batch, const float* input,
                        const BatchStatistics& statistics, StatisticsKind kind, const float* scale,
                        const float* shift, const Function& function, const float* output,
                        const float* output_gradient, const NormalisationGradients& gradients,
                        const SharedNormalisation* shared) {
    const auto channels = static_cast<std::size_t>(shape.channels);
    const double count = shared != nullptr ? shared->rows : static_cast<double>(batch * shape.pixels);
    const float* scaled = affine_form(shape, statistics, scale, shift);
    thread_local std::vector<double> sums;
    with_function(function, [&](auto value, auto slope) {
        using Gradient = ReachingGradient<decltype(value), decltype(slope)>;
        const Gradient gradient{input, output, output_gradient, scaled, scaled + channels, value, slope};
        const auto run = [&](auto summed) {
            constexpr bool from_output = decltype(summed)::value;
            sum_channels(
                shape, batch,
                [&, mean = statistics.mean.data()](auto strip, std::int64_t c) {
                    return GradientTerms<decltype(strip), from_output, Gradient>(gradient, mean, c);
                },
                sums);
            for (std::size_t c = 0; c < channels; ++c) {
                const double deviation =
                    std::sqrt(statistics.variance[c] + static_cast<double>(shape.epsilon));
                gradients.scale[c] = static_cast<float>(sums[channels + c] / deviation);
                gradients.shift[c] = static_cast<float>(sums[c]);
            }
            if (shared != nullptr) shared->add(sums);
            const GradientForm form = gradient_form(shape, statistics, kind, scale, sums, count);
            const auto reaching = [=](std::int64_t place, std::int64_t c) {
                return gradient.template at<from_output>(place, c);
            };
            if (gradients.input == nullptr && gradients.added == nullptr) return;
            for_rows(batch * shape.pixels, shape.channels, [&](std::int64_t row) {
                const std::int64_t at = row * shape.channels;
                if (gradients.added != nullptr)
                    assign_row(shape.channels, gradients.accumulate_added, gradients.added + at,
                               [=](std::int64_t c) { return reaching(at + c, c); });
                if (gradients.input != nullptr)
                    assign_row(shape.channels, gradients.accumulate, gradients.input + at,
                               [=](std::int64_t c) {
                                   return reaching(at + c, c) * form.factor[c] +
                                          input[at + c] * form.slope[c] + form.rest[c];
                               });
            });
        };
        if constexpr (decltype(slope)::of_input) {
            assert(output == nullptr);
            run(std::false_type());
        } else {
            with_summed(output != nullptr, run);
        }
    });
}

}  // namespace jevrin::inline v1
