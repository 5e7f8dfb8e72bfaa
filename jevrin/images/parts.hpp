// Training, validation and test: disjoint shares of an image set.
#pragma once

#include "jevrin/images/image_set.hpp"

#include <array>
#include <cstdint>
#include <string>
#include <vector>

namespace jevrin {

enum class Part { training, validation, test };
inline constexpr std::array<Part, 3> all_parts = {Part::training, Part::validation, Part::test};
std::string part_name(Part part);

// Shares of the items; they sum to at most 1. A share of 0 leaves the part empty (the test part only).
struct PartShares {
    double training = 0.6;
    double validation = 0.2;
    double test = 0.2;
};

struct Parts {
    std::vector<std::size_t> training;  // indices of items, ascending
    std::vector<std::size_t> validation;
    std::vector<std::size_t> test;

    const std::vector<std::size_t>& of(Part part) const;
};

// Stratified: each class is divided by the shares (largest remainders), and each part with a share gets at
// least one item of each class. Identical pictures go into one part together. The place of an item depends on
// the seed, its id and its class. InputError when a class has too few items, naming it.
Parts divide_into_parts(const ImageSet& set, const PartShares& shares, std::uint64_t seed);

}  // namespace jevrin
