// Fitted pictures of an image set in memory, and batches of them as numbers.
//
//     PreparedImages prepared(set, 64, Fit::pad);
//     prepared.fill(items, scaling, {.flip = true, .shift = 0.1}, {.seed = 1, .epoch = 3}, batch.values());
#pragma once

#include "jevrin/images/image_set.hpp"
#include "jevrin/images/preparation.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin {

// Random changes of a training picture; each draw is keyed by (seed, epoch, item).
struct Augmentation {
    bool flip = false;   // left and right exchanged in half of all pictures
    double shift = 0.0;  // up to this share of the side in each direction, the edge repeated

    bool changes_anything() const { return flip || shift > 0; }
};

struct AugmentationKey {
    std::uint64_t seed = 0;
    std::uint32_t epoch = 0;
};

class PreparedImages {
  public:
    // Loads and fits every item, in parallel.
    PreparedImages(const ImageSet& set, std::int64_t size, Fit fit, const ReadProgress& progress = {});

    std::int64_t size() const { return size_; }
    std::int64_t values_per_image() const { return size_ * size_ * 3; }
    const std::uint8_t* image(std::size_t item) const;

    // The scaling measured over these items.
    Scaling scaling_of(std::span<const std::size_t> items) const;

    // out [items.size(), size, size, 3].
    void fill(std::span<const std::int64_t> items, const ScalingTable& scaling,
              const Augmentation& augmentation, const AugmentationKey& key, std::span<float> out) const;

  private:
    std::int64_t size_;
    std::vector<std::uint8_t> bytes_;
};

}  // namespace jevrin
