#include "jevrin/metrics/item_selection.hpp"

#include "jevrin/base/random.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

std::vector<std::size_t> select_items(const PredictionTable& table, const ItemSelection& selection) {
    const std::vector<std::size_t> predicted = table.predicted();
    const auto wanted = [&](std::size_t i) {
        const bool correct = predicted[i] == table.labels[i];
        return (selection.outcome == ItemOutcome::all ||
                correct == (selection.outcome == ItemOutcome::correct)) &&
               (!selection.true_class || table.labels[i] == *selection.true_class) &&
               (!selection.predicted || predicted[i] == *selection.predicted);
    };
    std::vector<std::size_t> items;
    for (const std::int64_t place :
         random_order(static_cast<std::int64_t>(table.items()), selection.seed, Purpose::sample, 0))
        if (wanted(static_cast<std::size_t>(place))) items.push_back(static_cast<std::size_t>(place));
    if (selection.order == ItemOrder::random) return items;
    std::sort(items.begin(), items.end());
    const auto badness = [&](std::size_t i) {
        if (selection.order == ItemOrder::loss) return -table.row(i)[table.labels[i]];
        const float confidence = table.row(i)[predicted[i]];
        // Any mistake comes before anything correct.
        return predicted[i] == table.labels[i] ? -confidence : 1.0F + confidence;
    };
    std::stable_sort(items.begin(), items.end(),
                     [&](std::size_t a, std::size_t b) { return badness(a) > badness(b); });
    return items;
}

}  // namespace jevrin::inline v1
