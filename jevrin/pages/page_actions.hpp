// What a page may change, and what it takes home.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <string>

namespace jevrin::inline v1 {

// "mark": item (an id), and any of label (a class), excluded, note; "unmark": item. Returns what the same
// command says as JSON. NoView for another action; InputError for what is missing, wrong or sealed.
Json page_action(const Ledger& ledger, const StudyRecord& study, const std::string& action, const Json& body);

// The marks as a corrections file (evaluation/corrections.hpp).
std::string corrections_csv(const Ledger& ledger, const StudyRecord& study);

}  // namespace jevrin::inline v1
