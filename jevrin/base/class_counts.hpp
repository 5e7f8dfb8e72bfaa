// Counts of predictions class by class, from which the metrics of a plan follow.
#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

struct ClassCounts {
    std::vector<std::int64_t> labelled;   // by class: items of it,
    std::vector<std::int64_t> predicted;  // items predicted as it,
    std::vector<std::int64_t> correct;    // and correctly predicted items of it

    // Nothing counted yet.
    static ClassCounts of_classes(std::size_t classes);

    void add(std::size_t label, std::size_t prediction);
    void add(const ClassCounts& others);
    std::int64_t total() const;
};

}  // namespace jevrin::inline v1
