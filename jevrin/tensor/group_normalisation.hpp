// Normalisation within each item: group normalisation (Wu & He 2018) of [pixels, channels] images and layer
// normalisation (Ba 2016), which is the case of one pixel and one group.
//
//     output = scale * (input - mean) / sqrt(variance + epsilon) + shift
//
// with the mean and the biased variance over the pixels and channels of a group, and a scale and shift for
// each channel.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

struct GroupNormalisationShape {
    std::int64_t pixels = 1;
    std::int64_t channels = 0;
    std::int64_t groups = 1;  // divides the channels
    float epsilon = 1e-5F;

    std::int64_t item_size() const { return pixels * channels; }
};

// The statistics of forward, kept for backward: [items, groups, 2] means and inverse deviations; may be null.
void normalise_groups(const GroupNormalisationShape& shape, std::int64_t items, const float* input,
                      const float* scale, const float* shift, float* output, float* statistics);

struct GroupNormalisationGradients {
    float* input = nullptr;  // may be null, and may be the output gradient
    bool accumulate = false;
    float* scale = nullptr;  // [channels], replaced by sums in double over the items
    float* shift = nullptr;
};
void normalise_groups_backward(const GroupNormalisationShape& shape, std::int64_t items, const float* input,
                               const float* statistics, const float* scale, const float* output_gradient,
                               const GroupNormalisationGradients& gradients);

}  // namespace jevrin::inline v1
