#include "jevrin/base/class_counts.hpp"

#include <numeric>

namespace jevrin::inline v1 {

ClassCounts ClassCounts::of_classes(std::size_t classes) {
    const std::vector<std::int64_t> zeros(classes, 0);
    return {zeros, zeros, zeros};
}

void ClassCounts::add(const ClassCounts& others) {
    for (const auto list : {&ClassCounts::labelled, &ClassCounts::predicted, &ClassCounts::correct})
        for (std::size_t c = 0; c < (this->*list).size(); ++c) (this->*list)[c] += (others.*list)[c];
}

void ClassCounts::add(std::size_t label, std::size_t prediction) {
    ++labelled[label];
    ++predicted[prediction];
    if (label == prediction) ++correct[label];
}

std::int64_t ClassCounts::total() const {
    return std::accumulate(labelled.begin(), labelled.end(), std::int64_t{0});
}

}  // namespace jevrin::inline v1
