#include "jevrin/study/feature_pools.hpp"

namespace jevrin::inline v1 {

FeaturePool* FeaturePools::pool_for(const PlannedRun& run) {
    if (run.candidate->regime == Regime::scratch) return nullptr;
    const Scaling scaling = materials_.scaling_for(*run.candidate, run.fold);
    const std::string& backbone = materials_.backbones.at(run.candidate->backbone).features_hash;
    const std::lock_guard lock(mutex_);
    auto& pool = pools_[{backbone, scaling.mean, scaling.deviation}];
    if (!pool)
        pool = std::make_unique<FeaturePool>(
            FeatureSettings{.directory = directory_, .backbone = backbone, .keep = directory_.has_value()});
    return pool.get();
}

}  // namespace jevrin::inline v1
