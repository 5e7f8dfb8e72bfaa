// Predictions of a classifier for labelled items.
//
//     PredictionTable table{.classes = 3, .labels = {0, 2}, .probabilities = {0.7F, 0.2F, 0.1F, 0, 0.5F,
//     0.5F}}; require_probabilities(table); Scores scores = score_predictions(table);
#pragma once

#include <cstddef>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct PredictionTable {
    std::size_t classes = 0;
    std::vector<std::size_t> labels;   // by item, below classes
    std::vector<float> probabilities;  // [items, classes]

    std::size_t items() const { return labels.size(); }
    std::span<const float> row(std::size_t item) const {
        return std::span(probabilities).subspan(item * classes, classes);
    }
    // The class of the highest probability; of equal ones the first.
    std::size_t predicted(std::size_t item) const;
    // Of all items.
    std::vector<std::size_t> predicted() const;
    // The probability of the class that is predicted.
    double confidence(std::size_t item) const { return row(item)[predicted(item)]; }
};

// InputError with counts and the first place when a label is no class, a probability is not a number from 0
// to 1, or a row does not sum to 1 within 0.001.
void require_probabilities(const PredictionTable& table);

// For each item the place of its prediction, by id. InputError with counts and the first names when a
// prediction is missing, doubled, or of an unknown item.
std::vector<std::size_t> places_of_items(std::span<const std::string> items,
                                         std::span<const std::string> predicted_items);

}  // namespace jevrin::inline v1
