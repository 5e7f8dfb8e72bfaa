// The features that a run's model computes before its head: nearest neighbours, and labels that contradict
// them.
#pragma once

#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <cstdint>
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct RunFeatures {
    std::vector<ItemRecord> items;
    std::int64_t width = 0;
    std::vector<float> values;  // [items, width]

    std::span<const float> row(std::size_t item) const {
        return std::span(values).subspan(item * static_cast<std::size_t>(width),
                                         static_cast<std::size_t>(width));
    }
};

// Of a finished run, for these items; the images are read from where the study found them. InputError when
// the run is not finished, its network has no place before the head where its value is a vector, or images
// changed or are gone.
RunFeatures features_of_run(const Ledger& ledger, const StudyRecord& study, const RunRecord& run,
                            const std::vector<ItemRecord>& items, const PredictionProgress& progress = {});

// An item and its similarity: the cosine of the angle between the features, at most 1.
struct Neighbour {
    std::size_t item = 0;
    double similarity = 0.0;
};
// The nearest neighbours of one of them, the nearest first.
std::vector<Neighbour> nearest_items(const RunFeatures& features, std::size_t item, std::size_t most);

// Probabilities for items by models that did not learn from them: the items are cut into folds, class by
// class, from the seed; a logistic regression on the features of all other folds predicts each fold. Honest
// only where the features did not learn from these labels either: of frozen runs.
PartPredictions out_of_fold_predictions(const RunFeatures& features, std::size_t classes,
                                        std::int64_t folds = 5, std::uint64_t seed = 1);

}  // namespace jevrin::inline v1
