// Out-of-distribution score of an image: the Mahalanobis distance of the features before the head to the
// nearest class mean of the training images.
//
//     OutOfDistribution known = fit_out_of_distribution(features, labels, classes);
//     known.limit = out_of_distribution_limit(known, validation_features);
//     if (known.distance(row) > known.limit) ... it is out of distribution ...
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// One Gaussian per class with a shared covariance: a few principal directions, and one variance for all
// others (probabilistic principal components, Tipping & Bishop 1999; Mahalanobis distance to class means, Lee
// et al. 2018).
struct OutOfDistribution {
    std::int64_t width = 0;           // of the features
    std::vector<float> means;         // [classes with items, width]
    std::vector<float> directions;    // [directions, width], orthonormal
    std::vector<float> variances;     // along them
    double remaining_variance = 1.0;  // along any other direction
    double limit = 0.0;               // a larger distance is out of distribution

    // The Mahalanobis distance of features [width] to the nearest class mean, over the square root of the
    // width: about 1 for training images.
    double distance(std::span<const float> features) const;

    // One line of text, as it is stored in models; InputError when it is not what to_text() writes.
    std::string to_text() const;
    static OutOfDistribution from_text(const std::string& text);
};

// features [items, width] of training items, and their labels below classes. The result does not depend on a
// seed or on threads; limit is left 0.
OutOfDistribution fit_out_of_distribution(std::span<const float> features,
                                          std::span<const std::size_t> labels, std::size_t classes);

// The distance that the next image like these exceeds in 1 of 50 cases at most: the (items + 1) * 0.98th of
// their distances from below (split conformal, Vovk 2005). Of fewer than 49 even the largest is exceeded more
// often: then the prediction limit of a normal sample of their logarithms, from the largest to ten times
// that.
double out_of_distribution_limit(const OutOfDistribution& out_of_distribution,
                                 std::span<const float> features);

}  // namespace jevrin::inline v1
