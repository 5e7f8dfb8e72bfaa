// The items of a study that a page may show.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <vector>

namespace jevrin::inline v1 {

// Training and validation items of its newest run, by id, without those that another split of the study
// seals.
std::vector<ItemRecord> unsealed_items(const Ledger& ledger, const StudyRecord& study);

}  // namespace jevrin::inline v1
