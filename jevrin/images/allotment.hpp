// Assigns units of items to parts or folds, stratified by class as far as the units allow.
#pragma once

#include "jevrin/images/parts.hpp"

#include <cstdint>
#include <map>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {

// The items that stay together, by the index of the first of them.
using Units = std::map<std::size_t, std::vector<std::size_t>>;

// A place to put units: a part, or a fold. What is wanted is a fraction or a count of each class.
struct Slot {
    Place place;
    double wanted = 0.0;
};

class Allotment {
  public:
    // The units cover the items. InputError when a class has fewer units than there are slots, or too few
    // images for its counts.
    Allotment(const ImageSet& set, const PartsSettings& settings, const std::vector<std::size_t>& items,
              Units units);

    // Items whose content has a place take it, with what stays together with them.
    void keep_known(const KnownPlaces& known);
    // Puts what has no place yet.
    void allot();
    // InputError when a slot has no item of a class.
    void require_all_classes() const;
    // Nothing for an item that was left out.
    std::optional<Place> place_of(std::size_t item) const;

  private:
    void require_enough(const std::vector<std::int64_t>& counts) const;
    std::vector<std::int64_t> sizes_of(std::int64_t count, std::size_t label) const;
    int slot_at(Place place) const;
    void put(std::size_t item, int slot);
    int slot_for_item(std::size_t item) const;
    int slot_for_unit(const std::vector<std::size_t>& members) const;

    const ImageSet& set_;
    const PartsSettings& settings_;
    std::vector<Slot> slots_;
    Units units_;
    std::vector<int> slot_of_;                      // by item; -1: nowhere yet
    std::vector<std::vector<std::int64_t>> sizes_;  // [slot][class]
    std::vector<std::vector<std::int64_t>> needs_;  // the same, less what is there
};

}  // namespace jevrin::inline v1
