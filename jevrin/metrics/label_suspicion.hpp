// Probably wrong labels, from predictions of models that were not trained on them.
#pragma once

#include "jevrin/metrics/predictions.hpp"

#include <cstddef>
#include <vector>

namespace jevrin::inline v1 {

// An item whose label the predictions contradict.
struct SuspectLabel {
    std::size_t item = 0;            // its row
    std::size_t label = 0;           // its current label
    std::size_t proposed = 0;        // what it more likely is: the class of the highest probability
    double label_probability = 0.0;  // small: suspect
    double proposed_probability = 0.0;
};

// Confident learning, pruned by class (Northcutt, Jiang & Chuang 2021): an item counts for the likeliest
// class whose probability reaches the mean probability of that class over the items that carry it; of the
// items of a label that count for anything, those that count for another class are taken to be mislabelled.
// As many as that fraction makes of all its items are suspect: those to which the label is least probable, as
// long as another class is likelier. The least probable label first. The probabilities must come from models
// that did not learn from these items: of the validation part, or out of fold.
std::vector<SuspectLabel> find_suspect_labels(const PredictionTable& table);

}  // namespace jevrin::inline v1
