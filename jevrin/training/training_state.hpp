// Everything that must survive for a run to continue as if never interrupted.
#pragma once

#include "jevrin/base/class_counts.hpp"
#include "jevrin/tensor/tensor.hpp"
#include "jevrin/training/layer_summary.hpp"
#include "jevrin/training/optimiser_settings.hpp"
#include "jevrin/training/schedule.hpp"

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// What the epoch in progress has come to so far.
struct EpochSums {
    std::int64_t first_step = 0;  // of the run, where the epoch began
    double objective = 0.0;
    double loss = 0.0;
    ClassCounts counts;
    LayerSums layers;
    double data_seconds = 0.0;
    double compute_seconds = 0.0;
};

struct TrainingState {
    std::int64_t epochs_done = 0;
    std::int64_t steps_done = 0;
    std::vector<Tensor> parameters;  // of all nodes that ever train, in order
    std::vector<Moments> moments;    // of the same; empty where nothing has moved yet
    std::vector<Tensor> averages;    // of the same; none without averaging
    PlateauWatch plateau;
    EpochSums sums;
    std::int64_t best_epoch = 0;  // 0: none kept yet
    std::vector<Tensor> best_parameters;
    std::string note;   // whatever the caller wants to find again
    std::string owner;  // whose state it is; empty: not said
};

}  // namespace jevrin::inline v1
