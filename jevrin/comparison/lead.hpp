// The lead of one candidate over another, paired by seed and item.
#pragma once

#include "jevrin/metrics/intervals.hpp"

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace jevrin {

// What a run says item by item: the jackknife pseudo-values of the metric (item_influences()).
struct SeedInfluences {
    std::string items;           // tells which items, in which order: runs are paired only where it is equal
    std::vector<double> values;  // at least two
};
// Of one candidate, by seed.
using CandidateInfluences = std::map<std::int64_t, SeedInfluences>;

// Over the seeds that both have and where both saw the same items; nothing when there are none.
std::optional<CrossedInterval> lead_of(const CandidateInfluences& first, const CandidateInfluences& second);

// With fewer seeds in common nothing is called a difference: from two, the noise of seeds is known so badly
// that 95 % intervals cover the truth in as few as 87 of 100 studies (docs/choice.md).
inline constexpr std::int64_t fewest_seeds = 3;

// Whether the evidence tells the two apart: the whole interval lies above 0, over enough seeds.
bool is_separated(const std::optional<CrossedInterval>& lead);

}  // namespace jevrin
