// Writes marks as corrections, which the image set reads.
#pragma once

#include "jevrin/ledger/records.hpp"

#include <cstdint>
#include <filesystem>
#include <vector>

namespace jevrin::inline v1 {

// The marks that propose a label or to leave the item out, as the text of a corrections file, ordered by
// item.
std::string corrections_text(const std::vector<MarkRecord>& marks);

// Writes the marks that propose a label or to leave the item out as a corrections file (item, label, note),
// ordered by item. Rows that the file already has for other items stay. Returns how many rows it has.
// InputError when there is such a file and it is no list of corrections.
std::int64_t write_corrections(const std::vector<MarkRecord>& marks, const std::filesystem::path& file);

}  // namespace jevrin::inline v1
