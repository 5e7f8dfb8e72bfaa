// What a prediction costs on this machine, measured.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstdint>

namespace jevrin::inline v1 {

// Times are the shortest of several.
struct PredictionCost {
    double milliseconds = 0.0;        // of one image by itself
    double batch_milliseconds = 0.0;  // of each image of a batch of 32
    std::int64_t bytes = 0;           // of weights, and of buffers for one image
};
// Of a network that takes images, on all threads; decoding and preparation of the image are not part of it.
PredictionCost measure_prediction(const Network& network);

}  // namespace jevrin::inline v1
