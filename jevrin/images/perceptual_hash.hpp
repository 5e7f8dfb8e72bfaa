// Duplicates and near-duplicates: images recompressed, resized, slightly brightened.
//
// A perceptual hash has 256 bits: the image as 32x32 grey values, its two-dimensional cosine transform
// (DCT-II), and the signs of the coefficients of the 16x16 lowest frequencies (after Zauner 2010, with more
// bits, so that different images of the same kind of object stay apart). The distance of two is the number
// of bits in which they differ; unrelated images are about 128 apart.
#pragma once

#include "jevrin/images/image.hpp"

#include <array>
#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

struct ImageSet;

using PerceptualHash = std::array<std::uint64_t, 4>;

// Images at most this far apart count as near-duplicates. Of 244,650 pairs of different demo tiles the
// nearest were 59 apart; of tiles halved, enlarged, brightened or saved as JPEG again 93 to 100 % were within
// this.
inline constexpr int near_duplicate_distance = 24;

// Of [32, 32] grey values.
inline constexpr std::int64_t hash_image_side = 32;
PerceptualHash perceptual_hash_of(std::span<const std::uint8_t> grey);

// How many of the 256 bits differ.
int distance(const PerceptualHash& a, const PerceptualHash& b);

// Groups of items with identical content: their indices, groups of two or more.
std::vector<std::vector<std::size_t>> exact_duplicates(const ImageSet& set);

// Pairs of items (first < second) with different content and perceptual hashes at most
// near_duplicate_distance apart. Of a group of images that are all alike, each is named with one that it is
// like: as many pairs as it takes to connect them. Images of one colour are never alike. They are searched
// for once and kept with the set.
struct NearDuplicate {
    std::size_t first = 0;
    std::size_t second = 0;
    int distance = 0;
};
const std::vector<NearDuplicate>& near_duplicates(const ImageSet& set);

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
