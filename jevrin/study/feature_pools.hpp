// The boundary features of a study: runs whose frozen part is the same share them.
#pragma once

#include "jevrin/study/materials.hpp"
#include "jevrin/study/planned_runs.hpp"
#include "jevrin/training/boundary_features.hpp"

#include <array>
#include <filesystem>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <tuple>

namespace jevrin::inline v1 {

class FeaturePools {
  public:
    // Kept in this directory; without one nothing is kept.
    FeaturePools(const Materials& materials, std::optional<std::filesystem::path> directory)
        : materials_(materials), directory_(std::move(directory)) {}

    // Null for a run that trains all of its network. May be called by several threads.
    FeaturePool* pool_for(const PlannedRun& run);

  private:
    const Materials& materials_;
    std::optional<std::filesystem::path> directory_;
    std::mutex mutex_;
    // By the backbone's hash and scaling.
    std::map<std::tuple<std::string, std::array<double, 3>, std::array<double, 3>>,
             std::unique_ptr<FeaturePool>>
        pools_;
};

}  // namespace jevrin::inline v1
