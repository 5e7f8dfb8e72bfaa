#include "jevrin/training/class_counts.hpp"

#include <algorithm>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

double ratio(std::int64_t part, std::int64_t whole) {
    return whole == 0 ? 0.0 : static_cast<double>(part) / static_cast<double>(whole);
}

}  // namespace

void ClassCounts::add(std::size_t label, std::size_t prediction) {
    ++labelled[label];
    ++predicted[prediction];
    if (label == prediction) ++right[label];
}

std::int64_t ClassCounts::total() const {
    return std::accumulate(labelled.begin(), labelled.end(), std::int64_t{0});
}

double ClassCounts::accuracy() const {
    return ratio(std::accumulate(right.begin(), right.end(), std::int64_t{0}), total());
}

double ClassCounts::balanced_accuracy() const {
    double sum = 0.0;
    std::int64_t present = 0;
    for (std::size_t c = 0; c < labelled.size(); ++c) {
        if (labelled[c] == 0) continue;
        sum += ratio(right[c], labelled[c]);
        ++present;
    }
    return present == 0 ? 0.0 : sum / static_cast<double>(present);
}

double ClassCounts::macro_f1() const {
    double sum = 0.0;
    std::int64_t present = 0;
    for (std::size_t c = 0; c < labelled.size(); ++c) {
        if (labelled[c] + predicted[c] == 0) continue;
        sum += ratio(2 * right[c], labelled[c] + predicted[c]);
        ++present;
    }
    return present == 0 ? 0.0 : sum / static_cast<double>(present);
}

}  // namespace jevrin::inline v1
