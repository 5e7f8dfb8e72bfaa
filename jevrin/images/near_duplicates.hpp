// Which images of a set are the same, or nearly: copies, and images recompressed, resized, slightly
// brightened.
#pragma once

#include "jevrin/images/image_set.hpp"

#include <cstddef>
#include <vector>

namespace jevrin::inline v1 {

// Groups of items with identical content: their indices, groups of two or more.
std::vector<std::vector<std::size_t>> exact_duplicates(const ImageSet& set);

// Pairs of items (first < second) with different content and perceptual hashes at most
// near_duplicate_distance apart. Of a group of images that are all alike, each is named with one that it is
// like: as many pairs as it takes to connect them. Images of one colour are never alike. They are searched
// for once and kept with the set. progress counts steps of the search; it may throw, which ends it.
struct NearDuplicate {
    std::size_t first = 0;
    std::size_t second = 0;
    int distance = 0;  // of their perceptual hashes
};
const std::vector<NearDuplicate>& near_duplicates(const ImageSet& set, const ReadProgress& progress = {});

// Which items belong together, each named by the first of them.
class Alike {
  public:
    explicit Alike(std::size_t count);
    // False when they were together already.
    bool join(std::size_t a, std::size_t b);
    std::size_t first_of(std::size_t item);
    // Of every item.
    std::vector<std::size_t> all();

  private:
    std::vector<std::size_t> first_;
};

}  // namespace jevrin::inline v1
