// The values at the boundary between frozen and trained layers, one row per item.
#pragma once

#include "jevrin/images/batches.hpp"
#include "jevrin/network/graph.hpp"
#include "jevrin/network/inference.hpp"

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <span>
#include <string>
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

    // Rows of `count` pictures [count, size, size, channels] as they are given, never kept.
    void compute(std::int64_t count, std::span<const float> pictures, std::span<float> out);

    const PreparedImages& images() const { return images_; }
    const ScalingTable& scaling() const { return scaling_; }

  private:
    const PreparedImages& images_;
    ScalingTable scaling_;
    Inference inference_;
    std::int64_t computed_ = 0;
    std::vector<float> pictures_;
    std::vector<std::vector<float>> rows_;  // by item; empty until computed
};

// Features by the name of the node behind the boundary, shared by runs with the same backbone and scaling.
class FeaturePool {
  public:
    using Make = std::function<std::shared_ptr<BoundaryFeatures>()>;
    std::shared_ptr<BoundaryFeatures> get(const std::string& boundary, const Make& make);
    // How many rows have been computed so far, at all boundaries.
    std::int64_t computed() const;

  private:
    std::map<std::string, std::shared_ptr<BoundaryFeatures>> features_;
};

}  // namespace jevrin
