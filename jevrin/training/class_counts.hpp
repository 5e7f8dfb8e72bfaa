// How well the predictions are that are made while an epoch trains.
#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

// Counts of the predictions made while an epoch trains, by class.
struct ClassCounts {
    std::vector<std::int64_t> labelled;
    std::vector<std::int64_t> predicted;
    std::vector<std::int64_t> right;

    void add(std::size_t label, std::size_t prediction);
    std::int64_t total() const;
    double accuracy() const;
    // Means over the classes that occur, as those of a confusion matrix.
    double balanced_accuracy() const;
    double macro_f1() const;
};

}  // namespace jevrin::inline v1
