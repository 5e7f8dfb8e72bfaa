// Images of items as the page shows them, by item id.
#pragma once

#include "jevrin/images/image.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <cstdint>
#include <string>

namespace jevrin::inline v1 {

// No side longer than this many pixels; smaller images stay as they are. InputError when there is no such
// item, it is in the sealed test part, or its file is gone or changed.
Image shown_image(const Ledger& ledger, const StudyRecord& study, const std::string& item,
                  std::int64_t longest_side);

// No side longer than this many pixels; a smaller image stays as it is.
Image shrunk(Image image, std::int64_t longest_side);

}  // namespace jevrin::inline v1
