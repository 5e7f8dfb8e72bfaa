// Features at the boundary between frozen and trained layers, one row per item, computed once and cached.
#pragma once

#include "jevrin/base/row_store.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/graph.hpp"
#include "jevrin/images/batches.hpp"

#include <atomic>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Where features are kept, and what they depend on besides the images and the boundary.
struct FeatureSettings {
    std::optional<std::filesystem::path> directory;  // without one they live as long as the object
    // Of the backbone's weights: whoever changes them must change this.
    std::string backbone = {};
    bool keep = true;  // false: every row is computed whenever it is asked for
};

// Safe to call from several threads; rows that several want are computed by one of them.
class BoundaryFeatures {
  public:
    // The frozen part of a network (cut_network()); images must outlive this.
    BoundaryFeatures(const PreparedImages& images, const Network& frozen, const Scaling& scaling,
                     FeatureSettings settings = {});

    // How many rows have been computed so far, kept ones and others.
    std::int64_t computed() const { return computed_; }

    std::int64_t values_per_item() const { return values_per_item_; }

    // Rows [items, values_per_item] of the images as they are; each is computed when first asked for.
    void fill(std::span<const std::int64_t> items, std::span<float> out) { fill_view(items, {}, 0, out); }

    // The same of one of several fixed augmented views, counted from 1: the same for every seed.
    void fill_view(std::span<const std::int64_t> items, const Augmentation& augmentation, std::uint32_t view,
                   std::span<float> out);

    // Rows of `count` images [count, size, size, channels] as they are given, never kept.
    void compute(std::int64_t count, std::span<const float> images, std::span<float> out);

    const PreparedImages& images() const { return images_; }
    const ScalingTable& scaling() const { return scaling_; }

    // False when the disk, or another process, keeps rows from being kept for good.
    bool accepts() const;

  private:
    // What one thread computes with.
    struct Workspace {
        Inference inference;
        std::vector<float> pixels;
        std::vector<float> rows;
    };
    class Lent;
    RowStore& store_of(const Augmentation& augmentation, std::uint32_t view);
    // The places whose rows the store lacks; the others are filled in.
    std::vector<std::size_t> fill_known(const RowStore* store, std::span<const std::int64_t> items,
                                        std::span<float> out) const;
    void compute_with(Workspace& workspace, std::int64_t count, std::span<const float> images,
                      std::span<float> out);

    const PreparedImages& images_;
    Scaling scaling_numbers_;
    ScalingTable scaling_;
    FeatureSettings settings_;
    std::string boundary_;
    std::string arithmetic_;  // what decides bits beside all that
    Network frozen_;
    std::int64_t values_per_item_ = 0;
    std::atomic<std::int64_t> computed_{0};
    std::mutex filling_;        // one thread computes what is to be kept
    mutable std::mutex mutex_;  // of what follows
    std::vector<std::unique_ptr<Workspace>> free_;
    std::map<std::string, std::unique_ptr<RowStore>> stores_;  // by view
};

// The key of a view's draws.
AugmentationKey key_of_view(std::uint32_t view);

// Features by the name of the node behind the boundary, shared by runs with the same backbone and scaling.
// Safe to call from several threads.
class FeaturePool {
  public:
    explicit FeaturePool(FeatureSettings settings = {}) : settings_(std::move(settings)) {}

    std::shared_ptr<BoundaryFeatures> get(const PreparedImages& images, const Network& frozen,
                                          const Scaling& scaling);
    // How many rows have been computed so far, at all boundaries.
    std::int64_t computed() const;
    bool accepts() const;

  private:
    FeatureSettings settings_;
    mutable std::mutex mutex_;
    std::map<std::string, std::shared_ptr<BoundaryFeatures>> features_;
};

}  // namespace jevrin::inline v1
