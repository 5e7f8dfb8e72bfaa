// Training, validation and test: disjoint fractions of an image set.
//
//     Parts parts = split_into_parts(set, {.training = 0.6, .validation = 0.2, .test = 0.2});
//     for (std::size_t item : parts.validation) ... set.items[item] ...
//
// What belongs together stays together: identical images, near duplicates, items of one group. Such a unit
// goes into one part as a whole, so that none leaks from training into validation or test.
#pragma once

#include "jevrin/images/image_set.hpp"
#include "jevrin/images/part.hpp"

#include <cstdint>
#include <string>
#include <unordered_map>
#include <vector>

namespace jevrin::inline v1 {

// shares: of each class. counts: so many images of each class; a count of 0 for training means the rest.
// given: as the source says (folders, or a column). folds: k equal fractions, one of which is validation.
enum class PartsBy { shares, counts, given, folds };

struct PartsSettings {
    PartsBy by = PartsBy::shares;
    // Shares sum to at most 1; counts are integers. A test of 0 leaves that part empty. Folds use the
    // test share alone. Given parts without validation take this fraction of training for it, if it is not 0.
    double training = 0.6;
    double validation = 0.2;
    double test = 0.2;
    std::int64_t folds = 0;
    std::int64_t fold = 1;  // 1 to folds: the one that is validation
    std::uint64_t seed = 1;
    bool group_near_duplicates = true;

    // Names what determines the place of an item, whichever fold is validation.
    std::string key() const;
};

// Where an item was put: a part, or a fold (from 1) of what is not test.
struct Place {
    Part part = Part::training;
    std::int64_t fold = 0;  // 0: no folds
};
// By content: an image that was renamed is still the same image.
using KnownPlaces = std::unordered_map<ContentHash, Place>;

struct Parts {
    std::vector<std::size_t> training;  // indices of items, ascending
    std::vector<std::size_t> validation;
    std::vector<std::size_t> test;
    std::vector<std::int64_t> folds = {};  // by item: 1 to k, 0 for test; empty without folds
    std::vector<std::size_t> units = {};   // by item: find_units(); empty: each is its own
    std::vector<std::string> notes = {};   // what a reader should know about the split, as text

    const std::vector<std::size_t>& of(Part part) const;
    // The same split with another of its folds as validation.
    Parts with_fold(std::int64_t fold) const;
};

// Stratified: each class is split by the fractions (largest remainders) as nearly as its units allow. Items
// with a known place stay there; the place of any other depends on the seed, its id, and what is there.
// InputError when a class has too few items or units for the parts, or a part lacks a class.
Parts split_into_parts(const ImageSet& set, const PartsSettings& settings = {},
                       const KnownPlaces& known = {});

// The units of a set: for each item the lowest index of those it stays together with.
std::vector<std::size_t> find_units(const ImageSet& set, bool group_near_duplicates);

}  // namespace jevrin::inline v1
