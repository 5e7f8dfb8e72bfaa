// Batch normalisation (Ioffe & Szegedy 2015) over the last dimension of [rows, channels], where rows are all
// pixels of all images of a batch.
//
//     output = scale * (input - mean) / sqrt(variance + epsilon) + shift
//
// with a sum of another value of the same shape and an activation behind it in the same pass over memory.
//
// Training uses the mean and the biased variance of the batch, summed in double (channel_sums.hpp).
#pragma once

#include "jevrin/tensor/channel_sums.hpp"
#include "jevrin/tensor/kinds.hpp"

#include <cstdint>
#include <functional>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

struct NormalisationShape {
    std::int64_t pixels = 1;  // per image
    std::int64_t channels = 0;
    float epsilon = 1e-5F;
};

// Replaces the statistics by those of the batch; no allocation once they have the right size.
void measure_statistics(const NormalisationShape& shape, std::int64_t batch, const float* input,
                        BatchStatistics& statistics);

// output = function(input normalised with these statistics, scaled and shifted, plus added); output may be
// the input, and added may be null.
void normalise(const NormalisationShape& shape, std::int64_t batch, const float* input,
               const BatchStatistics& statistics, const float* scale, const float* shift, const float* added,
               const Function& function, float* output);

// Where the statistics came from: those of the batch depend on the input, stored ones do not.
enum class StatisticsKind { of_batch, stored };

struct NormalisationGradients {
    float* input = nullptr;  // may be null, and may be the output gradient
    bool accumulate = false;
    float* scale = nullptr;  // replaced
    float* shift = nullptr;
    float* added = nullptr;  // may be null
    bool accumulate_added = false;
};

// Of a batch that is cut into shards which share their statistics: the rows of all, and what makes sums over
// this shard sums over all.
struct SharedNormalisation {
    const double& rows;
    std::function<void(std::span<double>)> add;
};

// The gradients of normalise(); input is that of forward. Where something was added, output is that of
// forward and the slope of the function is computed from it (slope_needs_input()); otherwise output is null.
// Those of scale and shift are sums over this shard.
void normalise_backward(const NormalisationShape& shape, std::int64_t batch, const float* input,
                        const BatchStatistics& statistics, StatisticsKind kind, const float* scale,
                        const float* shift, const Function& function, const float* output,
                        const float* output_gradient, const NormalisationGradients& gradients,
                        const SharedNormalisation* shared = nullptr);

}  // namespace jevrin::inline v1
