#include "jevrin/training/sampling.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>

namespace jevrin::inline v1 {
namespace {

using ByClass = std::map<std::size_t, std::vector<std::size_t>>;

ByClass by_class(std::span<const std::size_t> items, std::span<const std::size_t> labels) {
    ByClass classes;
    for (const std::size_t item : items) classes[labels[item]].push_back(item);
    return classes;
}

// Sorted by a draw of each item's own, so that no item's place depends on who else is there.
std::vector<std::size_t> shuffled(const std::vector<std::size_t>& members, std::uint64_t seed,
                                  Purpose purpose, std::uint32_t epoch) {
    std::vector<std::pair<std::uint64_t, std::size_t>> drawn;
    for (const std::size_t item : members)
        drawn.emplace_back(RandomStream({seed, purpose, epoch, item}).bits64(), item);
    std::sort(drawn.begin(), drawn.end());
    std::vector<std::size_t> result;
    for (const auto& [draw, item] : drawn) result.push_back(item);
    return result;
}

std::vector<std::size_t> balanced(std::span<const std::size_t> items, std::span<const std::size_t> labels,
                                  std::uint64_t seed, std::uint32_t epoch) {
    const ByClass classes = by_class(items, labels);
    const std::size_t each = items.size() / classes.size();
    const std::size_t left = items.size() % classes.size();
    // Who gets one more is drawn anew in each epoch.
    const std::vector<std::int64_t> luck =
        random_order(std::ssize(classes), seed, Purpose::balanced_classes, epoch);
    std::vector<std::size_t> taken;
    std::size_t place = 0;
    for (const auto& [label, members] : classes) {
        const std::size_t wanted = each + (static_cast<std::size_t>(luck[place++]) < left ? 1 : 0);
        const auto order = shuffled(members, seed, Purpose::balanced_items, epoch);
        for (std::size_t i = 0; i < wanted; ++i) taken.push_back(order[i % order.size()]);
    }
    return taken;
}

}  // namespace

const EnumNames<Sampling>& names_of(Sampling) {
    static const EnumNames<Sampling> names(
        "sampling", {{Sampling::natural, "natural"}, {Sampling::balanced, "balanced"}});
    return names;
}

std::vector<std::int64_t> order_of_epoch(std::span<const std::size_t> items,
                                         std::span<const std::size_t> labels, Sampling sampling,
                                         std::uint64_t seed, std::uint32_t epoch) {
    std::vector<std::size_t> taken(items.begin(), items.end());
    if (sampling == Sampling::balanced) taken = balanced(items, labels, seed, epoch);
    std::vector<std::int64_t> order;
    for (const std::int64_t place : random_order(std::ssize(taken), seed, Purpose::order, epoch))
        order.push_back(static_cast<std::int64_t>(taken[static_cast<std::size_t>(place)]));
    return order;
}

std::vector<std::size_t> stratified_share(std::span<const std::size_t> items,
                                          std::span<const std::size_t> labels, double share,
                                          std::uint64_t seed) {
    if (share >= 1.0) return {items.begin(), items.end()};
    std::vector<std::size_t> taken;
    for (const auto& [label, members] : by_class(items, labels)) {
        const auto order = shuffled(members, seed, Purpose::training_share, 0);
        const auto wanted =
            static_cast<std::size_t>(std::max(1.0, std::round(share * static_cast<double>(members.size()))));
        taken.insert(taken.end(), order.begin(), order.begin() + static_cast<std::ptrdiff_t>(wanted));
    }
    std::sort(taken.begin(), taken.end());
    return taken;
}

std::vector<std::size_t> stratified_bootstrap(std::span<const std::size_t> items,
                                              std::span<const std::size_t> labels,
                                              std::span<const std::size_t> units, std::uint64_t seed) {
    std::map<std::size_t, std::vector<std::size_t>> members;  // of each unit
    for (const std::size_t item : items) members[units.empty() ? item : units[item]].push_back(item);
    std::map<std::size_t, std::vector<std::size_t>> of_class;  // units
    for (const auto& [unit, own] : members) of_class[labels[own.front()]].push_back(unit);
    std::vector<std::size_t> taken;
    for (const auto& [label, candidates] : of_class) {
        RandomStream random({.seed = seed, .purpose = Purpose::bootstrap_part, .item = label});
        for (std::size_t draw = 0; draw < candidates.size(); ++draw) {
            const auto& drawn =
                members.at(candidates[random.below(static_cast<std::uint32_t>(candidates.size()))]);
            taken.insert(taken.end(), drawn.begin(), drawn.end());
        }
    }
    std::sort(taken.begin(), taken.end());
    return taken;
}

}  // namespace jevrin::inline v1
