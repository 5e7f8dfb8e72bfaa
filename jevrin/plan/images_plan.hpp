// The [images] table of a plan or recipe.
#pragma once

#include "jevrin/images/augmentation.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/images/preparation.hpp"

#include <optional>

namespace jevrin::inline v1 {

// How bytes become numbers: by the mean and deviation of the training part, to 0 to 1, or by stated numbers.
enum class ScalingKind { training, unit, stated };
struct StatedScaling {
    ScalingKind kind = ScalingKind::training;
    Scaling numbers;  // when they are stated
};

struct ImagesPlan {
    ImageSource source;  // paths are absolute
    // Not stated: as the source gives them, otherwise the default shares.
    std::optional<PartsSettings> parts;
    std::vector<std::int64_t> folds = {};  // which are validation in turn, each in runs of its own
    std::uint64_t split_seed = 1;          // which items go to which part
    bool group_near_duplicates = true;
    // Its channels are those of the backbone, or of the images, unless stated.
    Fitting fitting;
    std::optional<int> channels;
    // Not stated: a pretrained backbone keeps its own, everything else takes that of the training part.
    std::optional<StatedScaling> scaling;
};

}  // namespace jevrin::inline v1
