#include "jevrin/pages/unsealed_items.hpp"

#include <algorithm>
#include <set>
#include <string>

namespace jevrin::inline v1 {

std::vector<ItemRecord> unsealed_items(const Ledger& ledger, const StudyRecord& study) {
    const std::vector<RunRecord> runs = ledger.runs(study.id);
    if (runs.empty()) return {};
    std::vector<ItemRecord> items = ledger.items(runs.back().id, Part::training);
    for (const ItemRecord& item : ledger.items(runs.back().id, Part::validation)) items.push_back(item);
    const std::set<std::string> sealed = ledger.sealed_elsewhere(study.id);
    std::erase_if(items, [&](const ItemRecord& item) { return sealed.contains(item.id); });
    std::sort(items.begin(), items.end(),
              [](const ItemRecord& a, const ItemRecord& b) { return a.id < b.id; });
    return items;
}

}  // namespace jevrin::inline v1
