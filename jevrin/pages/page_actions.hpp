// What a page may change, and what it takes home.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/images/image.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <cstdint>
#include <string>

namespace jevrin::inline v1 {

// "mark": item (an id), and any of label (a class), excluded, note; "unmark": item; "accept", "reject":
// number of a received image, and of the first also label (null: none of the classes). Returns what the same
// command says as JSON. NoView for another action; InputError for what is missing, wrong or sealed.
Json page_action(const Ledger& ledger, const StudyRecord& study, const std::string& action, const Json& body);

// The marks as a corrections file (evaluation/corrections.hpp).
std::string corrections_csv(const Ledger& ledger, const StudyRecord& study);

// Images that users of a model sent back (external/received_images.hpp), as 'marks received --all' says it.
Json received_images(const Ledger& ledger);
// One of them, no side longer than this many pixels. InputError when there is none of this number.
Image received_image(const Ledger& ledger, std::int64_t number, std::int64_t longest_side);

}  // namespace jevrin::inline v1
