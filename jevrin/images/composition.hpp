// Composes new labelled sets: augmented copies, and overlays pasted onto images.
#pragma once

#include "jevrin/images/augmentation.hpp"
#include "jevrin/images/image_set.hpp"

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct Composition {
    std::int64_t copies = 1;  // new images of each image
    std::uint64_t seed = 1;
    bool originals = false;     // the images themselves too
    bool jpeg = false;          // written as JPEG of quality 95 instead of PNG
    Augmentation augmentation;  // with its overlays; mixing is not for sets
    // By overlay: the classes whose images may get it; empty: all.
    std::vector<std::vector<std::string>> onto = {};
};

struct CompositionSummary {
    std::int64_t written = 0;
    std::int64_t relabelled = 0;  // by overlays with a label
};

// Writes DIRECTORY/CLASS/NAME-COPY.png and DIRECTORY/index.csv with path, label, group and, if any, overlays;
// the group is the path of the image that an image was made from, so that its copies stay in one part. The
// index is written last: while it is missing the set is not whole. InputError when the directory holds
// anything, or an overlay's label or class has no place in the set; WorkError when writing fails.
CompositionSummary compose(const ImageSet& set, const Composition& composition,
                           const std::filesystem::path& directory, const ReadProgress& progress = {});

}  // namespace jevrin::inline v1
