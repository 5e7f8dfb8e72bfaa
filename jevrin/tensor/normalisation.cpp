#include "jevrin/tensor/normalisation.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/channel_strips.hpp"
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
    using Sum = typename Strip::Lanes::Sum;
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
            const Sum wide = Strip::load(reaching, v);
            a[v] += wide;
            b[v] += wide * (Strip::load(gradient.input + place, v) - mean[v]);
        }
    }
};

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
        std::fill_n(first, 2 * channels, 0.0);
        const IndexRange images = chunk_range(batch, chunks, chunk);
        sum_rows({images.begin * shape.pixels, images.end * shape.pixels}, {0, channels}, channels, make,
                 first, first + channels);
    });
    sums.assign(static_cast<std::size_t>(2 * channels), 0.0);
    for (std::int64_t chunk = 0; chunk < chunks; ++chunk)
        for (std::int64_t c = 0; c < 2 * channels; ++c)
            sums[static_cast<std::size_t>(c)] += all[chunk * 2 * channels + c];
}

}  // namespace

void measure_statistics(const NormalisationShape& shape, std::int64_t batch, const float* input,
                        BatchStatistics& statistics) {
    const std::int64_t chunks = std::min(batch, sum_chunks);
    ChannelSums sums(chunks, shape.channels);
    parallel_for(chunks, [&](std::int64_t chunk) {
        const IndexRange images = chunk_range(batch, chunks, chunk);
        sums.add(chunk, {images.begin * shape.pixels, images.end * shape.pixels}, {0, shape.channels}, input);
    });
    sums.finish(statistics);
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
