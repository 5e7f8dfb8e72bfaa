#include "jevrin/tensor/normalisation.hpp"

#include "jevrin/base/parallel.hpp"

#include <algorithm>
#include <cmath>

namespace jevrin {
namespace {

// Sums over the batch are cut into this many chunks of images, added in order.
constexpr std::int64_t sum_chunks = 8;

// Two sums for each channel over all pixels of the batch: of first(i) and of second(i), element by element.
template <typename First, typename Second>
void sum_channels(const NormalisationShape& shape, std::int64_t batch, First first, Second second,
                  std::vector<double>& sums) {
    const std::int64_t channels = shape.channels;
    const std::int64_t chunks = std::min(batch, sum_chunks);
    thread_local std::vector<double> partials;
    partials.assign(static_cast<std::size_t>(chunks * 2 * channels), 0.0);
    double* all = partials.data();
    parallel_for(chunks, [&](std::int64_t chunk) {
        double* a = all + chunk * 2 * channels;
        double* b = a + channels;
        const Range images = chunk_range(batch, chunks, chunk);
        for (std::int64_t row = images.begin * shape.pixels; row < images.end * shape.pixels; ++row)
            for (std::int64_t c = 0; c < channels; ++c) {
                a[c] += first(row * channels + c, c);
                b[c] += second(row * channels + c, c);
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
    // Sums are taken about the first pixel of each channel, so that a large common offset cancels no digits.
    sum_channels(
        shape, batch,
        [&](std::int64_t i, std::int64_t c) { return static_cast<double>(input[i]) - input[c]; },
        [&](std::int64_t i, std::int64_t c) {
            const double d = static_cast<double>(input[i]) - input[c];
            return d * d;
        },
        sums);
    statistics.mean.resize(channels);
    statistics.variance.resize(channels);
    for (std::size_t c = 0; c < channels; ++c) {
        const double offset = sums[c] / count;
        statistics.mean[c] = input[c] + offset;
        statistics.variance[c] = std::max(0.0, sums[channels + c] / count - offset * offset);
    }
}

void normalise(const NormalisationShape& shape, std::int64_t batch, const float* input,
               std::span<const double> mean, std::span<const double> variance, const float* scale,
               const float* shift, float* output) {
    const auto channels = static_cast<std::size_t>(shape.channels);
    thread_local std::vector<float> factors;
    factors.resize(2 * channels);
    for (std::size_t c = 0; c < channels; ++c) {
        const double factor = scale[c] / std::sqrt(variance[c] + static_cast<double>(shape.epsilon));
        factors[c] = static_cast<float>(factor);
        factors[channels + c] = static_cast<float>(shift[c] - mean[c] * factor);
    }
    const float* factor = factors.data();
    const float* offset = factors.data() + channels;
    parallel_for(batch, [&](std::int64_t n) {
        const float* in = input + n * shape.pixels * shape.channels;
        float* out = output + n * shape.pixels * shape.channels;
        for (std::int64_t p = 0; p < shape.pixels; ++p)
            for (std::int64_t c = 0; c < shape.channels; ++c) {
                const std::int64_t i = p * shape.channels + c;
                out[i] = in[i] * factor[c] + offset[c];
            }
    });
}

void normalise_backward(const NormalisationShape& shape, std::int64_t batch, const float* input,
                        const BatchStatistics& statistics, const float* scale, const float* output_gradient,
                        bool accumulate, float* input_gradient, float* scale_gradient,
                        float* shift_gradient) {
    const auto channels = static_cast<std::size_t>(shape.channels);
    const double count = static_cast<double>(batch * shape.pixels);
    const double* mean = statistics.mean.data();
    thread_local std::vector<double> sums;
    sum_channels(
        shape, batch, [&](std::int64_t i, std::int64_t) { return static_cast<double>(output_gradient[i]); },
        [&](std::int64_t i, std::int64_t c) {
            return output_gradient[i] * (static_cast<double>(input[i]) - mean[c]);
        },
        sums);
    // dx = scale/s * (dy - mean(dy) - (x - mean) * mean(dy * (x - mean)) / s^2): Ioffe & Szegedy 2015,
    // section 3.
    thread_local std::vector<float> terms;
    terms.resize(3 * channels);
    for (std::size_t c = 0; c < channels; ++c) {
        const double inverse = 1.0 / std::sqrt(statistics.variance[c] + static_cast<double>(shape.epsilon));
        const double factor = scale[c] * inverse;
        const double slope = -factor * sums[channels + c] / count * inverse * inverse;
        terms[c] = static_cast<float>(factor);
        terms[channels + c] = static_cast<float>(slope);
        terms[2 * channels + c] = static_cast<float>(-factor * sums[c] / count - slope * mean[c]);
        scale_gradient[c] = static_cast<float>(sums[channels + c] * inverse);
        shift_gradient[c] = static_cast<float>(sums[c]);
    }
    if (input_gradient == nullptr) return;
    const float* factor = terms.data();
    const float* slope = terms.data() + channels;
    const float* offset = terms.data() + 2 * channels;
    parallel_for(batch, [&](std::int64_t n) {
        const std::int64_t begin = n * shape.pixels * shape.channels;
        for (std::int64_t p = 0; p < shape.pixels; ++p)
            for (std::int64_t c = 0; c < shape.channels; ++c) {
                const std::int64_t i = begin + p * shape.channels + c;
                const float value = output_gradient[i] * factor[c] + input[i] * slope[c] + offset[c];
                input_gradient[i] = accumulate ? input_gradient[i] + value : value;
            }
    });
}

}  // namespace jevrin
