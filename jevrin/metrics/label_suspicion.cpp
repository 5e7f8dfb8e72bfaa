#include "jevrin/metrics/label_suspicion.hpp"

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

// The mean probability of each class over the items that carry it; above any probability without items.
std::vector<double> mean_probabilities(const PredictionTable& table) {
    std::vector<double> means(table.classes, 0.0);
    std::vector<double> counts(table.classes, 0.0);
    for (std::size_t i = 0; i < table.items(); ++i) {
        const std::size_t label = table.labels[i];
        means[label] += static_cast<double>(table.row(i)[label]);
        ++counts[label];
    }
    for (std::size_t c = 0; c < table.classes; ++c) means[c] = counts[c] > 0.0 ? means[c] / counts[c] : 2.0;
    return means;
}

// How many items of each label are mislabelled.
std::vector<std::size_t> mislabelled_counts(const PredictionTable& table) {
    const std::vector<double> means = mean_probabilities(table);
    std::vector<double> counted(table.classes, 0.0);
    std::vector<double> elsewhere(table.classes, 0.0);
    std::vector<double> items(table.classes, 0.0);
    for (std::size_t i = 0; i < table.items(); ++i) {
        const auto row = table.row(i);
        const std::size_t label = table.labels[i];
        std::size_t credible = table.classes;
        for (std::size_t c = 0; c < table.classes; ++c)
            if (static_cast<double>(row[c]) >= means[c] &&
                (credible == table.classes || row[c] > row[credible]))
                credible = c;
        ++items[label];
        if (credible == table.classes) continue;
        ++counted[label];
        elsewhere[label] += credible == label ? 0.0 : 1.0;
    }
    std::vector<std::size_t> result(table.classes, 0);
    for (std::size_t c = 0; c < table.classes; ++c)
        if (counted[c] > 0.0)
            result[c] = static_cast<std::size_t>(std::lround(items[c] * elsewhere[c] / counted[c]));
    return result;
}

}  // namespace

std::vector<SuspectLabel> find_suspect_labels(const PredictionTable& table) {
    std::vector<std::vector<SuspectLabel>> by_label(table.classes);
    for (std::size_t i = 0; i < table.items(); ++i) {
        const auto row = table.row(i);
        const std::size_t label = table.labels[i];
        const std::size_t predicted = table.predicted(i);
        by_label[label].push_back(
            {i, label, predicted, static_cast<double>(row[label]), static_cast<double>(row[predicted])});
    }
    const auto least_probable = [](const SuspectLabel& a, const SuspectLabel& b) {
        return a.label_probability < b.label_probability;
    };
    const std::vector<std::size_t> counts = mislabelled_counts(table);
    std::vector<SuspectLabel> suspects;
    for (std::size_t c = 0; c < table.classes; ++c) {
        std::stable_sort(by_label[c].begin(), by_label[c].end(), least_probable);
        for (std::size_t k = 0; k < std::min(counts[c], by_label[c].size()); ++k)
            if (by_label[c][k].proposed != c) suspects.push_back(by_label[c][k]);
    }
    std::stable_sort(suspects.begin(), suspects.end(), least_probable);
    return suspects;
}

}  // namespace jevrin::inline v1
