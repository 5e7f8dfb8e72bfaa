#include "jevrin/metrics/cross_fitting.hpp"

#include "jevrin/base/random.hpp"

#include <algorithm>
#include <array>
#include <map>
#include <unordered_map>

namespace jevrin::inline v1 {

std::vector<std::uint8_t> halves_of(std::span<const std::int64_t> units, std::span<const std::size_t> labels,
                                    std::int64_t seed) {
    // Units of each class (that of their first item), in an order drawn by the seed, go to the halves in
    // turn.
    std::map<std::size_t, std::vector<std::int64_t>> by_class;
    std::unordered_map<std::int64_t, std::uint8_t> half_of;
    for (std::size_t i = 0; i < units.size(); ++i)
        if (half_of.try_emplace(units[i], std::uint8_t{0}).second) by_class[labels[i]].push_back(units[i]);
    std::size_t place = 0;
    for (auto& [label, members] : by_class) {
        std::sort(members.begin(), members.end());
        RandomStream random({.seed = static_cast<std::uint64_t>(seed),
                             .purpose = Purpose::halves,
                             .item = static_cast<std::uint64_t>(label)});
        for (std::size_t k = members.size(); k > 1; --k)
            std::swap(members[k - 1], members[random.below(static_cast<std::uint32_t>(k))]);
        for (const std::int64_t unit : members) half_of[unit] = static_cast<std::uint8_t>(place++ % 2);
    }
    std::vector<std::uint8_t> halves;
    halves.reserve(units.size());
    for (const std::int64_t unit : units) halves.push_back(half_of[unit]);
    return halves;
}

std::vector<std::size_t> cross_fitted(std::span<const std::vector<std::size_t>> epochs,
                                      std::span<const std::size_t> labels,
                                      std::span<const std::uint8_t> halves, std::size_t classes,
                                      Metric metric) {
    std::array<std::size_t, 2> best = {0, 0};  // epoch, by the half that chooses
    std::array<double, 2> highest = {-1.0, -1.0};
    for (std::size_t e = 0; e < epochs.size(); ++e) {
        std::array<ClassCounts, 2> counts = {ClassCounts::of_classes(classes),
                                             ClassCounts::of_classes(classes)};
        for (std::size_t i = 0; i < labels.size(); ++i) counts[halves[i]].add(labels[i], epochs[e][i]);
        for (std::size_t half = 0; half < 2; ++half) {
            const double reached = score(counts[half], metric);
            if (reached <= highest[half]) continue;
            highest[half] = reached;
            best[half] = e;
        }
    }
    std::vector<std::size_t> predicted;
    predicted.reserve(labels.size());
    for (std::size_t i = 0; i < labels.size(); ++i) predicted.push_back(epochs[best[1U - halves[i]]][i]);
    return predicted;
}

}  // namespace jevrin::inline v1
