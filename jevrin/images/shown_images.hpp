// Images for people to look at: a sample of a set, and what training makes of it.
#pragma once

#include "jevrin/images/augmentation.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/preparation.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// By class: at most so many items, drawn at random from the seed.
std::vector<std::vector<std::size_t>> sample_by_class(const ImageSet& set, std::size_t per_class,
                                                      std::uint64_t seed);

// What these items of a set are in an epoch of training with that seed: fitted, augmented, mixed with each
// other.
std::vector<Image> images_in_training(const ImageSet& set, std::span<const std::size_t> items,
                                      const Fitting& fitting, const Augmentation& augmentation,
                                      std::uint64_t seed, std::uint32_t epoch = 1);

// As an image for people: grey becomes colour.
Image image_of_fitted(std::span<const std::uint8_t> fitted, const Fitting& fitting);

}  // namespace jevrin::inline v1
