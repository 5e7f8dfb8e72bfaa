// The values at the boundary between frozen and trained layers, one row per item.
#pragma once

#include "jevrin/images/batches.hpp"
#include "jevrin/network/graph.hpp"
#include "jevrin/network/inference.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin {

class BoundaryFeatures {
  public:
    // The frozen part of a network (divide()); images must outlive this.
    BoundaryFeatures(const PreparedImages& images, const Network& frozen, const Scaling& scaling);

    // How many rows have been computed so far, kept ones and others.
    std::int64_t computed() const { return computed_; }

    std::int64_t values_per_item() const { return inference_.output_size(); }

    // Rows [items, values_per_item] without augmentation; each is computed when first asked for and kept.
    void fill(std::span<const std::int64_t> items, std::span<float> out);

    // The same with augmentation, never kept.
    void fill_augmented(std::span<const std::int64_t> items, const Augmentation& augmentation,
                        const AugmentationKey& key, std::span<float> out);

  private:
    void compute(std::span<const std::int64_t> items, const Augmentation& augmentation,
                 const AugmentationKey& key, std::span<float> out);

    const PreparedImages& images_;
    ScalingTable scaling_;
    Inference inference_;
    std::int64_t computed_ = 0;
    std::vector<float> batch_;
    std::vector<std::vector<float>> rows_;  // by item; empty until computed
};

}  // namespace jevrin
