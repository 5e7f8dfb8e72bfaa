// Statistics of each layer in an epoch.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// One layer in one epoch; norms are Euclidean, over all its parameters that train.
struct LayerSummary {
    std::string layer;
    double weight_norm = 0.0;     // at the end of the epoch
    double gradient_norm = 0.0;   // mean of the steps that were looked at, before clipping
    double update_ratio = 0.0;    // mean of |change of the weights| / |weights|
    double dead_fraction = -1.0;  // of the units of the ReLU after it, never above 0; -1: there is no relu
    double learning_rate = 0.0;   // at the end of the epoch
};

// What a monitor has seen of the epoch in progress.
struct LayerSums {
    std::int64_t looks = 0;
    std::vector<double> gradients;   // of each layer, summed over the looks
    std::vector<double> updates;     // likewise
    std::vector<std::string> alive;  // of each layer, '1' for units that were above 0
};

}  // namespace jevrin::inline v1
