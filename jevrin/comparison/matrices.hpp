// Confusion matrices across runs: the mean of a candidate and its spread, and the difference of two, by cell
// and by class, with significance.
#pragma once

#include "jevrin/comparison/evidence.hpp"
#include "jevrin/metrics/crossed.hpp"

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// By cell, [true class][predicted]: fractions of the true class, 0 where it has no items.
using CellFractions = std::vector<std::vector<double>>;

struct MatrixSpread {
    CellFractions mean;
    CellFractions deviation;  // over runs, n - 1; 0 with one run
    std::int64_t runs = 0;
};
// Matrices of one number of classes; at least one.
MatrixSpread matrix_spread(const std::vector<ConfusionMatrix>& matrices);

// A cell that one of the two candidates puts items into.
struct CellDifference {
    std::size_t true_class = 0;
    std::size_t predicted = 0;
    double first = 0.0;  // fraction of the true class, mean over seeds
    double second = 0.0;
    Interval interval;        // 95 %, of first - second
    double adjusted_p = 1.0;  // corrected for the number of cells
    bool beyond_chance = false;

    double difference() const { return first - second; }
};

// The recall of one class.
struct ClassGain {
    std::size_t true_class = 0;
    std::int64_t items = 0;
    double first = 0.0;
    double second = 0.0;
    Interval interval;
    double adjusted_p = 1.0;  // corrected for the number of classes
    bool beyond_chance = false;

    double gain() const { return first - second; }
};

struct MatrixDifference {
    CellFractions difference;           // first - second
    std::vector<CellDifference> cells;  // the largest difference first
    std::vector<ClassGain> gains;       // classes with items, the largest gain first
    std::int64_t seeds = 0;  // of the candidate that has fewer; 1: the variance between seeds is unknown
};

// Candidates, or single runs of them, on the same items. A difference is beyond chance when p, the larger of
// that of crossed_difference() on the class's items and of McNemar's exact test on them, lies below 0.05
// after Holm's correction for all cells (classes) compared, over at least three seeds. InputError when they
// were not validated on the same items.
MatrixDifference compare_matrices(const CandidateEvidence& first, const CandidateEvidence& second,
                                  std::size_t classes);

// Recall of every class by every candidate, mean over seeds.
struct RecallTable {
    std::vector<std::string> candidates;
    std::vector<std::int64_t> items;              // by class: of the validation part, over all folds
    std::vector<std::vector<double>> recalls;     // [class][candidate]; NaN for a class without items
    std::vector<std::vector<double>> deviations;  // over seeds; 0 with one
};
RecallTable recalls_of(const StudyEvidence& evidence);

}  // namespace jevrin::inline v1
