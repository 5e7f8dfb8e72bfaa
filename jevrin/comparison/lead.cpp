#include "jevrin/comparison/lead.hpp"

namespace jevrin {

std::optional<CrossedInterval> lead_of(const CandidateInfluences& first, const CandidateInfluences& second) {
    std::vector<std::vector<double>> differences;
    for (const auto& [number, ours] : first) {
        const auto theirs = second.find(number);
        if (theirs == second.end() || ours.items != theirs->second.items || ours.values.size() < 2) continue;
        if (!differences.empty() && differences[0].size() != ours.values.size()) continue;
        differences.emplace_back();
        for (std::size_t i = 0; i < ours.values.size(); ++i)
            differences.back().push_back(ours.values[i] - theirs->second.values[i]);
    }
    if (differences.empty()) return std::nullopt;
    return crossed_interval(differences);
}

bool is_separated(const std::optional<CrossedInterval>& lead) {
    return lead && lead->seeds >= fewest_seeds && lead->interval.low > 0;
}

}  // namespace jevrin
