// The items of an epoch and their order.
#pragma once

#include "jevrin/base/enumeration.hpp"

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

enum class Sampling {
    natural,   // each item once
    balanced,  // each class equally often: items of small classes come again, of large ones some wait
};
const EnumNames<Sampling>& names_of(Sampling);

// As many items as `items` holds, in an order drawn from (seed, epoch). labels are by item. Balanced classes
// differ by at most one; within a class no item comes a second time before all have come once.
std::vector<std::int64_t> order_of_epoch(std::span<const std::size_t> items,
                                         std::span<const std::size_t> labels, Sampling sampling,
                                         std::uint64_t seed, std::uint32_t epoch);

// A bootstrap sample, drawn by the seed: of each class as many units with replacement as it has, each with
// all its items. Ascending, items as often as they were drawn. units: by item, as Parts::units; empty: each
// item is its own. A unit belongs to the class of its first item.
std::vector<std::size_t> stratified_bootstrap(std::span<const std::size_t> items,
                                              std::span<const std::size_t> labels,
                                              std::span<const std::size_t> units, std::uint64_t seed);

// The first fraction of each class in an order that the seed fixes: at least one item of each class that has
// any, so smaller shares lie within larger ones. Ascending. The whole for a fraction of 1.
std::vector<std::size_t> stratified_share(std::span<const std::size_t> items,
                                          std::span<const std::size_t> labels, double share,
                                          std::uint64_t seed);

}  // namespace jevrin::inline v1
