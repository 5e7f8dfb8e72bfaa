// Ranking metrics: ROC AUC and average precision of each class.
#pragma once

#include "jevrin/metrics/predictions.hpp"

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// One class against the rest. Nothing when all items are of the class, or none is.
struct RankScores {
    // The chance that an item of the class gets a higher probability than one of another; equal ones count
    // half (Mann & Whitney 1947; Hanley & McNeil 1982).
    std::optional<double> roc_auc;
    // The sum over thresholds of (recall - recall before) * precision; items of equal probability enter
    // together, nothing is interpolated.
    std::optional<double> average_precision;
};

// By class.
std::vector<RankScores> rank_scores(const PredictionTable& table);

// The order of one class's probabilities, kept so that many weightings of the items can be scored.
class ClassRanking {
  public:
    ClassRanking(const PredictionTable& table, std::size_t one_class);
    // Each item counted so often.
    RankScores scores(std::span<const std::uint32_t> counts) const;

  private:
    std::vector<std::uint32_t> places_;  // by item, from the highest probability down
    std::vector<bool> positive_;
    std::size_t place_count_ = 0;
};

}  // namespace jevrin::inline v1
