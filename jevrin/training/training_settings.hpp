// The training settings of a candidate: everything but network, images and seed.
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/execution/kept_activations.hpp"
#include "jevrin/images/augmentation.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/optimiser_settings.hpp"
#include "jevrin/training/sampling.hpp"
#include "jevrin/training/schedule.hpp"

#include <cstdint>

namespace jevrin::inline v1 {

// What batch normalisation measures where batches are cut into shards: each shard by itself, or the whole
// batch.
enum class ShardStatistics { shard, batch };
const EnumNames<ShardStatistics>& names_of(ShardStatistics);

struct TrainingSettings {
    std::int64_t epochs = 15;
    std::int64_t steps = 0;           // instead of epochs, when it is not 0
    double minutes = 0.0;             // of training; then the epoch in progress is the last. 0: no limit
    std::int64_t validate_every = 0;  // steps between validations; 0: one at the end of each epoch
    std::int64_t patience = 0;        // validations without a new best before training ends; 0: never
    std::int64_t batch = 32;
    // Into how many shards a batch is cut; each is a pass of its own, and their gradients are added in a
    // fixed order, whoever computes them.
    std::int64_t shards = 1;
    ShardStatistics shard_statistics = ShardStatistics::shard;
    double fraction = 1.0;           // of the training part, the same of each class
    bool redraw = false;             // each seed learns from a sample of it, drawn with replacement
    double gradient_clipping = 0.0;  // largest norm of the gradient; 0: not clipped
    // Decay of the exponential moving average of the weights, which is validated and kept instead of the
    // weights themselves: average_t is the mean of the weights so far with weights ema_decay^(t - i). 0: off.
    double ema_decay = 0.0;
    OptimiserSettings optimiser;
    Schedule schedule;
    LossSettings loss;
    Sampling sampling = Sampling::natural;
    Augmentation augmentation;
    KeptActivations activations = KeptActivations::float32;
    bool winograd = true;    // 3x3 convolutions in transformed tiles where they serve
    std::int64_t views = 0;  // fixed augmented views of each image, used in turn; 0: a new one each epoch
};

// What the settings come to for a training part. An "epoch" of the record is what lies between validations.
struct RunLength {
    std::int64_t steps_per_epoch = 1;
    std::int64_t steps = 1;
    std::int64_t steps_per_validation = 1;
    std::int64_t validations = 1;
};
// The most items of a batch that are in work at the same time, where one process computes all shards.
std::int64_t items_at_once(const TrainingSettings& settings, std::int64_t batch);

RunLength run_length(const TrainingSettings& settings, std::int64_t training_items);

}  // namespace jevrin::inline v1
