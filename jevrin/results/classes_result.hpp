// Per-class scores of one run: counts, precision, recall, ranking metrics, and the most frequent confusions.
#pragma once

#include "jevrin/metrics/scores.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/results/run_predictions.hpp"

namespace jevrin::inline v1 {

struct ClassesQuery {
    // Of the table: support, correct, false_positives, false_negatives, precision, recall, f1, roc_auc,
    // average_precision. None: all.
    std::vector<std::string> columns = {};
    // By this column: the weakest first, of counts the largest; "name": the order of the classes.
    std::string sort = "recall";
    bool reversed = false;
};

struct ClassesResult {
    RunPredictions of;
    std::vector<ClassScores> scores;  // by class
    std::vector<std::size_t> order;   // classes as they are listed
    std::vector<std::string> columns;

    ConfusionMatrix matrix() const { return of.predictions.matrix(); }
    std::string title() const;
};
// InputError for an unknown column, before anything is predicted.
void require_columns(const ClassesQuery& query);
ClassesResult report_classes(RunPredictions of, const ClassesQuery& query = {});

std::string to_json(const ClassesResult& result);
ResultTable to_table(const ClassesResult& result);
std::string to_text(const ClassesResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
