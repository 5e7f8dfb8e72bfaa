// The fitted images of an image set.
//
//     PreparedImages prepared(set, {.size = 64});
#pragma once

#include "jevrin/images/augmentation.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/preparation.hpp"

#include <cstdint>
#include <span>

namespace jevrin::inline v1 {

// Where fitted images are kept on disk (images/image_store.hpp).
class ImageStore;

class PreparedImages {
  public:
    // set and store must outlive this. With a store every image that it lacks is read, fitted and put there
    // now, in parallel; without one images are read whenever they are needed. The bytes are the same.
    PreparedImages(const ImageSet& set, const Fitting& fitting, ImageStore* store = nullptr,
                   const ReadProgress& progress = {});

    const Fitting& fitting() const { return fitting_; }
    std::int64_t values_per_image() const { return fitting_.values(); }

    std::int64_t count() const;
    // Of the file, or rows, that an item came from.
    const ContentHash& content(std::int64_t item) const;

    // One image's bytes [values_per_image].
    void read_pixels(std::size_t item, std::span<std::uint8_t> pixels) const;

    // The scaling measured over these items.
    Scaling scaling_of(std::span<const std::size_t> items) const;

    // out [items.size(), size, size, channels], in parallel. The overlays that were laid on change nothing
    // about the labels; mixing is not done here.
    void fill(std::span<const std::int64_t> items, const ScalingTable& scaling,
              const Augmentation& augmentation, const AugmentationKey& key, std::span<float> out) const;

  private:
    const ImageSet& set_;
    Fitting fitting_;
    ImageStore* store_;
};

}  // namespace jevrin::inline v1
