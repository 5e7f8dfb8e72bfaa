#include "jevrin/tensor/group_normalisation.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/element_loop.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

namespace jevrin::inline v1 {
namespace {

// Sums over the items are cut into this many chunks, added in order.
constexpr std::int64_t sum_chunks = 8;

// Calls visit(place in the item, first channel, width) for each pixel's fraction of a group.
template <typename Visit>
void for_group(const GroupNormalisationShape& s, std::int64_t group, Visit visit) {
    const std::int64_t width = s.channels / s.groups;
    for (std::int64_t p = 0; p < s.pixels; ++p) visit(p * s.channels + group * width, group * width, width);
}

}  // namespace

void normalise_groups(const GroupNormalisationShape& s, std::int64_t items, const float* input,
                      const float* scale, const float* shift, float* output, float* statistics) {
    const double count = static_cast<double>(s.item_size() / s.groups);
    for_rows(items, s.item_size(), [&](std::int64_t n) {
        const float* in = input + n * s.item_size();
        float* out = output + n * s.item_size();
        for (std::int64_t g = 0; g < s.groups; ++g) {
            double sum = 0.0;
            for_group(s, g, [&](std::int64_t at, std::int64_t, std::int64_t width) {
                sum += sum_terms(width, [=](std::int64_t i) { return in[at + i]; });
            });
            const double mean = sum / count;
            double squares = 0.0;
            for_group(s, g, [&](std::int64_t at, std::int64_t, std::int64_t width) {
                squares += sum_terms(width, [=](std::int64_t i) {
                    const double d = static_cast<double>(in[at + i]) - mean;
                    return d * d;
                });
            });
            const auto inverse =
                static_cast<float>(1.0 / std::sqrt(squares / count + static_cast<double>(s.epsilon)));
            const auto centre = static_cast<float>(mean);
            for_group(s, g, [&](std::int64_t at, std::int64_t c, std::int64_t width) {
                for (std::int64_t i = 0; i < width; ++i)
                    out[at + i] = (in[at + i] - centre) * inverse * scale[c + i] + shift[c + i];
            });
            if (statistics == nullptr) continue;
            statistics[(n * s.groups + g) * 2] = centre;
            statistics[(n * s.groups + g) * 2 + 1] = inverse;
        }
    });
}

void normalise_groups_backward(const GroupNormalisationShape& s, std::int64_t items, const float* input,
                               const float* statistics, const float* scale, const float* output_gradient,
                               const GroupNormalisationGradients& gradients) {
    const double count = static_cast<double>(s.item_size() / s.groups);
    const std::int64_t chunks = std::min(items, sum_chunks);
    thread_local std::vector<double> partials;
    partials.assign(static_cast<std::size_t>(chunks * 2 * s.channels), 0.0);
    double* all = partials.data();
    parallel_for(chunks, [&](std::int64_t chunk) {
        double* scale_sums = all + chunk * 2 * s.channels;
        double* shift_sums = scale_sums + s.channels;
        const IndexRange range = chunk_range(items, chunks, chunk);
        for (std::int64_t n = range.begin; n < range.end; ++n)
            for (std::int64_t g = 0; g < s.groups; ++g) {
                const float* in = input + n * s.item_size();
                const float* dy = output_gradient + n * s.item_size();
                const float mean = statistics[(n * s.groups + g) * 2];
                const float inverse = statistics[(n * s.groups + g) * 2 + 1];
                double sum = 0.0;         // of the gradient at the normalised value
                double projection = 0.0;  // of that times the normalised value
                const auto normal = [=](std::int64_t place) { return (in[place] - mean) * inverse; };
                for_group(s, g, [&](std::int64_t at, std::int64_t c, std::int64_t width) {
                    for (std::int64_t i = 0; i < width; ++i) {
                        scale_sums[c + i] += static_cast<double>(dy[at + i] * normal(at + i));
                        shift_sums[c + i] += static_cast<double>(dy[at + i]);
                    }
                    sum += sum_terms(width, [=](std::int64_t i) { return dy[at + i] * scale[c + i]; });
                    projection += sum_terms(
                        width, [=](std::int64_t i) { return dy[at + i] * scale[c + i] * normal(at + i); });
                });
                if (gradients.input == nullptr) continue;
                float* dx = gradients.input + n * s.item_size();
                const auto mean_sum = static_cast<float>(sum / count);
                const auto mean_projection = static_cast<float>(projection / count);
                const bool accumulate = gradients.accumulate;
                for_group(s, g, [&](std::int64_t at, std::int64_t c, std::int64_t width) {
                    for (std::int64_t i = 0; i < width; ++i) {
                        const float value = inverse * (dy[at + i] * scale[c + i] - mean_sum -
                                                       normal(at + i) * mean_projection);
                        dx[at + i] = accumulate ? dx[at + i] + value : value;
                    }
                });
            }
    });
    for (std::int64_t c = 0; c < s.channels; ++c) {
        double scale_sum = 0.0;
        double shift_sum = 0.0;
        for (std::int64_t chunk = 0; chunk < chunks; ++chunk) {
            scale_sum += all[chunk * 2 * s.channels + c];
            shift_sum += all[(chunk * 2 + 1) * s.channels + c];
        }
        gradients.scale[c] = static_cast<float>(scale_sum);
        gradients.shift[c] = static_cast<float>(shift_sum);
    }
}

}  // namespace jevrin::inline v1
