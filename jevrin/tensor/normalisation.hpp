// Batch normalisation (Ioffe & Szegedy 2015) over the last dimension of [rows, channels], where rows are all
// pixels of all images of a batch.
//
//     output = scale * (input - mean) / sqrt(variance + epsilon) + shift
//
// Training uses the mean and the biased variance of the batch; statistics are summed in double, image by
// image, in order.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin {

struct NormalisationShape {
    std::int64_t pixels = 1;  // per image
    std::int64_t channels = 0;
    float epsilon = 1e-5F;
};

// Mean and biased variance of each channel of a batch.
struct BatchStatistics {
    std::vector<double> mean;
    std::vector<double> variance;
};

// Replaces the statistics by those of the batch; no allocation once they have the right size.
void measure_statistics(const NormalisationShape& shape, std::int64_t batch, const float* input,
                        BatchStatistics& statistics);

// output = input normalised with these statistics, then scaled and shifted; output may be the input.
void normalise(const NormalisationShape& shape, std::int64_t batch, const float* input,
               std::span<const double> mean, std::span<const double> variance, const float* scale,
               const float* shift, float* output);

// Gradients when the statistics are those of the batch (training): input_gradient (+)= ..., scale_gradient
// and shift_gradient are replaced. input_gradient may be null.
void normalise_backward(const NormalisationShape& shape, std::int64_t batch, const float* input,
                        const BatchStatistics& statistics, const float* scale, const float* output_gradient,
                        bool accumulate, float* input_gradient, float* scale_gradient, float* shift_gradient);

}  // namespace jevrin
