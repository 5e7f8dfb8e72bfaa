#include "jevrin/external/validation_rows.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/metrics/predictions.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

std::vector<std::size_t> columns_of(const std::vector<std::string>& known,
                                    const std::vector<std::string>& stated) {
    std::vector<std::size_t> columns(known.size());
    std::iota(columns.begin(), columns.end(), 0);
    if (stated.empty()) return columns;
    if (stated.size() != known.size())
        throw InputError(
            fmt::format("'classes' has {} names; the study has {} classes", stated.size(), known.size()));
    std::vector<bool> seen(known.size(), false);
    for (std::size_t c = 0; c < stated.size(); ++c) {
        const auto found = std::find(known.begin(), known.end(), stated[c]);
        if (found == known.end())
            throw InputError(fmt::format("'classes': '{}' is no class of the study{}", printable(stated[c]),
                                         did_you_mean(stated[c], known)));
        columns[c] = static_cast<std::size_t>(found - known.begin());
        if (seen[columns[c]])
            throw InputError(fmt::format("'classes': '{}' stands twice", printable(stated[c])));
        seen[columns[c]] = true;
    }
    return columns;
}

// A path that one item alone has stands for its id.
std::vector<std::string> ids_called(const std::vector<std::string>& names,
                                    const std::vector<std::string>& ids) {
    std::unordered_map<std::string, std::string> by_path;
    for (const std::string& id : ids) {
        const auto [place, is_new] = by_path.try_emplace(path_of_item(id), id);
        if (!is_new) place->second.clear();
    }
    std::vector<std::string> called;
    for (const std::string& name : names) {
        const auto found = by_path.find(name);
        called.push_back(found != by_path.end() && !found->second.empty() ? found->second : name);
    }
    return called;
}

}  // namespace

ValidationRows validation_rows(const Ledger& ledger, const StudyRecord& study, SplitId split,
                               const std::vector<std::string>& items,
                               const std::vector<std::string>& classes) {
    ValidationRows rows{.classes = study.classes,
                        .items = {},
                        .labels = {},
                        .columns = columns_of(study.classes, classes),
                        .class_counts = std::vector<std::size_t>(study.classes.size(), 0)};
    for (const PlacedItem& item : ledger.placed_items(split)) {
        if (item.part != Part::validation) continue;
        rows.items.push_back(item.id);
        rows.labels.push_back(item.label);
        ++rows.class_counts.at(item.label);
    }
    if (rows.items.empty()) throw InputError("this split has no validation part");
    if (items.empty()) return rows;
    const std::vector<std::string> stated = ids_called(items, rows.items);
    // By item its row: each of them, once.
    const std::vector<std::size_t> places = places_of_items(rows.items, stated);
    std::vector<std::size_t> labels(stated.size());
    for (std::size_t i = 0; i < places.size(); ++i) labels[places[i]] = rows.labels[i];
    rows.items = stated;
    rows.labels = std::move(labels);
    return rows;
}

}  // namespace jevrin::inline v1
