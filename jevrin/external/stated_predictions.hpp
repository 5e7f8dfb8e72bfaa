// Predictions of the validation part that were made elsewhere: a CSV table, an NPY array, or JSON.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/external/validation_rows.hpp"

#include <cstddef>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace jevrin::inline v1 {

enum class PredictionForm { csv, npy, json };

// Probabilities of every item of the part, in the order of its rows and of the study's classes.
//
// CSV: a column item (an id or a path) and one for each class, rows in any order. NPY: [items, classes],
// float32 or float64, rows and columns in the order that the run states. JSON: {"probabilities": [[...],
// ...]} in the same order. place names the input in messages. InputError when an item is unknown, missing or
// there twice, or when a row's values are no probabilities that sum to 1.
std::vector<float> read_stated_predictions(std::string_view bytes, PredictionForm form,
                                           const ValidationRows& rows, const std::string& place);

// As a ledger keeps them.
std::vector<PredictionRecord> prediction_records(const ValidationRows& rows,
                                                 std::span<const float> probabilities);

// A sentence when the labels fit much better with the classes in another order than the one that was stated;
// otherwise empty.
std::string class_order_doubt(const ValidationRows& rows, const std::vector<PredictionRecord>& predictions);

}  // namespace jevrin::inline v1
