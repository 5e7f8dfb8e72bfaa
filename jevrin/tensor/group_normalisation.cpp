#include "jevrin/tensor/group_normalisation.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/element_loop.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

namespace jevrin {
namespace {

// Sums over the items are cut into this many chunks, added in order.
constexpr std::int64_t sum_chunks = 8;

// Calls visit(place in the item, channel) for each element of a group.
template <typename Visit>
void for_group(const GroupNormalisationShape& s, std::int64_t group, Visit visit) {
    const std::int64_t width = s.channels / s.groups;
    for (std::int64_t p = 0; p < s.pixels; ++p)
        for (std::int64_t c = group * width; c < (group + 1) * width; ++c) visit(p * s.channels + c, c);
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
            for_group(s, g, [&](std::int64_t i, std::int64_t) { sum += static_cast<double>(in[i]); });
            const double mean = sum / count;
            double squares = 0.0;
            for_group(s, g, [&](std::int64_t i, std::int64_t) {
                const double d = static_cast<double>(in[i]) - mean;
                squares += d * d;
            });
            const auto inverse =
                static_cast<float>(1.0 / std::sqrt(squares / count + static_cast<double>(s.epsilon)));
            const auto centre = static_cast<float>(mean);
            for_group(s, g, [&](std::int64_t i, std::int64_t c) {
                out[i] = (in[i] - centre) * inverse * scale[c] + shift[c];
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
        const Range range = chunk_range(items, chunks, chunk);
        for (std::int64_t n = range.begin; n < range.end; ++n)
            for (std::int64_t g = 0; g < s.groups; ++g) {
                const float* in = input + n * s.item_size();
                const float* dy = output_gradient + n * s.item_size();
                const float mean = statistics[(n * s.groups + g) * 2];
                const float inverse = statistics[(n * s.groups + g) * 2 + 1];
                double sum = 0.0;         // of the gradient at the normalised value
                double projection = 0.0;  // of that times the normalised value
                for_group(s, g, [&](std::int64_t i, std::int64_t c) {
                    const float normal = (in[i] - mean) * inverse;
                    scale_sums[c] += static_cast<double>(dy[i] * normal);
                    shift_sums[c] += static_cast<double>(dy[i]);
                    sum += static_cast<double>(dy[i] * scale[c]);
                    projection += static_cast<double>(dy[i] * scale[c] * normal);
                });
                if (gradients.input == nullptr) continue;
                float* dx = gradients.input + n * s.item_size();
                const auto mean_sum = static_cast<float>(sum / count);
                const auto mean_projection = static_cast<float>(projection / count);
                for_group(s, g, [&](std::int64_t i, std::int64_t c) {
                    const float normal = (in[i] - mean) * inverse;
                    const float value = inverse * (dy[i] * scale[c] - mean_sum - normal * mean_projection);
                    dx[i] = gradients.accumulate ? dx[i] + value : value;
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

}  // namespace jevrin
