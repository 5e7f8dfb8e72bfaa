// A number that says what an image looks like, whatever its size, compression and brightness.
//
// A perceptual hash has 256 bits: the image as 32x32 grey values, its two-dimensional cosine transform
// (DCT-II), and the signs of the coefficients of the 16x16 lowest frequencies (after Zauner 2010, with more
// bits, so that different images of the same kind of object stay apart). The distance of two is the number
// of bits in which they differ; unrelated images are about 128 apart.
#pragma once

#include <array>
#include <cstdint>
#include <span>

namespace jevrin::inline v1 {

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

}  // namespace jevrin::inline v1
