// Mean and variance of each channel of a map [pixels, channels], piece by piece: by whoever writes the map,
// while the piece is in a cache. A piece is summed in double about its first pixel, so that a large common
// offset cancels no digits; pieces are combined in their order (Chan, Golub & LeVeque 1983).
#pragma once

#include "jevrin/base/parallel.hpp"

#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

// Mean and biased variance of each channel of a batch.
struct BatchStatistics {
    std::vector<double> mean;
    std::vector<double> variance;
};

class ChannelSums {
  public:
    // One at a time on each thread; nothing is allocated once there was one of this size.
    ChannelSums(std::int64_t pieces, std::int64_t channels);

    // The columns of a piece, over all its pixels; other columns may be added by another thread.
    void add(std::int64_t piece, IndexRange pixels, IndexRange columns, const float* map);
    // When all pieces are there; zeros when there is none.
    void finish(BatchStatistics& statistics) const;

  private:
    double* sums_of(std::int64_t piece) const { return sums_ + piece * 2 * channels_; }

    std::int64_t pieces_;
    std::int64_t channels_;
    double* counts_;  // [pieces]
    double* sums_;    // [pieces, 2, channels]: mean, and the sum of squared distances from it
};

}  // namespace jevrin::inline v1
