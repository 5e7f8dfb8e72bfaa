// Thresholds on the probabilities of one run, with the resulting scores.
#pragma once

#include "jevrin/evaluation/threshold_report.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/results/run_predictions.hpp"

namespace jevrin::inline v1 {

struct ThresholdsQuery {
    std::string one_class = {};  // only this class; empty: all
    double precision = ThresholdWishes{}.precision;
    double recall = ThresholdWishes{}.recall;
    std::optional<double> accuracy = std::nullopt;  // of what is answered
};

struct ThresholdsResult {
    RunPredictions of;
    ThresholdsQuery query;
    ThresholdReport report;
};
// InputError for a class that there is not, or when the model that predicted is gone.
ThresholdsResult report_thresholds(const Ledger& ledger, RunPredictions of,
                                   const ThresholdsQuery& query = {});

std::string to_json(const ThresholdsResult& result);
// Every point of every curve.
ResultTable to_table(const ThresholdsResult& result);
std::string to_text(const ThresholdsResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
