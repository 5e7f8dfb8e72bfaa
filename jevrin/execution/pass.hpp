// What forward and training passes share: their memory, and the key of random operators.
#pragma once

#include "jevrin/execution/kept_activations.hpp"

#include <cstdint>
#include <span>

namespace jevrin::inline v1 {

struct BatchStatistics;

// What passes over the shards of one batch compute together when batch normalisation takes the statistics of
// the whole batch. Each function waits for the passes over all other shards.
class ShardSums {
  public:
    virtual ~ShardSums() = default;
    // Replaces the statistics of this shard, over so many rows, by those of the batch; returns its rows.
    virtual double combine(BatchStatistics& statistics, double rows) = 0;
    // Replaces sums over this shard by sums over the batch.
    virtual void add(std::span<double> sums) = 0;
};

// What the random operators of a training pass are keyed by, and whether the pass is one of several over
// shards of a batch: then running statistics stay as they are (TrainingPass::move_statistics()).
struct PassDraw {
    std::uint64_t seed = 0;
    std::uint32_t epoch = 0;
    const std::int64_t* items = nullptr;  // [batch], stable numbers of the items
    bool is_shard = false;
    ShardSums* sums = nullptr;  // null: each shard has its own statistics
};

// Bytes that a pass takes beside its network's parameters.
struct PassMemory {
    std::int64_t fixed = 0;          // gradients of parameters, scratch of the kernels
    std::int64_t per_item = 0;       // values and gradients of one item, shared by lifetime
    std::int64_t kept_per_item = 0;  // of these, what forward has to keep for backward

    std::int64_t total(std::int64_t batch) const { return fixed + per_item * batch; }
};

// The largest batch for which memory_limit() leaves enough; 0 when not even one item fits.
std::int64_t fitting_batch(const PassMemory& memory);

// InputError when a batch of this size needs more than memory_limit() leaves, with the batch that would fit.
void require_memory(const PassMemory& memory, std::int64_t batch);

}  // namespace jevrin::inline v1
