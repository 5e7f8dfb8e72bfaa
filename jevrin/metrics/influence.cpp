#include "jevrin/metrics/influence.hpp"

#include <map>

namespace jevrin {

std::vector<double> item_influences(std::size_t classes, std::span<const std::size_t> labels,
                                    std::span<const std::size_t> predicted, Metric metric) {
    ConfusionMatrix matrix(classes, labels, predicted);
    const double all = score(matrix, metric);
    const auto n = static_cast<double>(labels.size());
    // The value depends on the cell alone.
    std::map<std::pair<std::size_t, std::size_t>, double> by_cell;
    std::vector<double> values;
    values.reserve(labels.size());
    for (std::size_t i = 0; i < labels.size(); ++i) {
        const auto [entry, added] = by_cell.emplace(std::pair(labels[i], predicted[i]), all);
        if (added && matrix.support(labels[i]) > 1) {
            matrix.add(labels[i], predicted[i], -1);
            entry->second = n * all - (n - 1) * score(matrix, metric);
            matrix.add(labels[i], predicted[i], 1);
        }
        values.push_back(entry->second);
    }
    return values;
}

}  // namespace jevrin
