// Batches of the fitted images of an image set as numbers, prepared ahead of their use.
//
//     BatchQueue queue(prepared, settings, order_of_items, batch_size, {.seed = 1, .epoch = 3});
//     while (const Batch* batch = queue.next()) ... batch->images, batch->targets ...
#pragma once

#include "jevrin/images/augmentation.hpp"
#include "jevrin/images/prepared_images.hpp"

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

// A batch as a network takes it.
struct Batch {
    std::vector<std::int64_t> items;
    std::vector<float> images;  // [items, size, size, channels]
    std::vector<Target> targets;
};

// The targets of items as they are labelled, unmixed; labels and weights are by item, no weights means 1
// each.
std::vector<Target> targets_of(std::span<const std::int64_t> items, std::span<const std::size_t> labels,
                               std::span<const double> weights);

struct BatchSettings {
    std::int64_t size = 32;
    std::int64_t first = 0;  // the batch to begin with, when some were taken before
    Augmentation augmentation;
    AugmentationKey key;
    // Which places of a batch of so many items are prepared, from the first to before the second; empty: all.
    std::function<std::pair<std::int64_t, std::int64_t>(std::int64_t items)> part = {};
};

// The batches of one epoch, in order, from settings.first on. While one is used, the next are read, fitted,
// augmented and mixed on whatever threads are free; at most `ahead` wait, whatever the size of the set.
class BatchQueue {
  public:
    static constexpr std::int64_t ahead = 3;

    // images, labels and weights must outlive the queue; order holds items, cut into batches of settings.size
    // (the last may be smaller). labels and weights are by item; no weights means 1 each. Partners for mixing
    // come from order.
    BatchQueue(const PreparedImages& images, const ScalingTable& scaling, BatchSettings settings,
               std::vector<std::int64_t> order, std::span<const std::size_t> labels,
               std::span<const double> weights = {});
    // Waits for work in progress.
    ~BatchQueue();
    BatchQueue(const BatchQueue&) = delete;
    BatchQueue& operator=(const BatchQueue&) = delete;

    // The next batch, valid until the next call; null after the last. Throws what preparing it threw.
    const Batch* next();

  private:
    struct Work;
    std::unique_ptr<Work> work_;
};

}  // namespace jevrin::inline v1
