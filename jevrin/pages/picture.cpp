#include "jevrin/pages/picture.hpp"

#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/images/image_set.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

Image shown_image(const Ledger& ledger, const StudyRecord& study, const std::string& item,
                  std::int64_t longest_side) {
    const ImageSet set = items_of(study, {ledger.unsealed_item(study.id, item)});
    return shrunk(load_image(set, set.items.front()), longest_side);
}

Image shrunk(Image image, std::int64_t longest_side) {
    const std::int64_t longer = std::max(image.width, image.height);
    if (longer <= longest_side) return image;
    return resize(image, std::max<std::int64_t>(1, image.width * longest_side / longer),
                  std::max<std::int64_t>(1, image.height * longest_side / longer));
}

}  // namespace jevrin::inline v1
