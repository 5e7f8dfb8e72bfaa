// The command confusion: one matrix, the difference of two, the mean of several.
#pragma once

#include "output.hpp"

#include "jevrin/metrics/confusion_matrix.hpp"

namespace jevrin::app {

struct ConfusionOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::string part = "validation";
    std::int64_t epoch = 0;  // 0: the best
    std::string shares;
    std::string minus;
    bool mean = false;
    std::filesystem::path figure;
    std::filesystem::path strip;
    std::filesystem::path csv;
};

// The runs named, which need one epoch, or all finished ones of a candidate.
std::vector<RunRecord> runs_with_matrices(const std::vector<std::string>& names, const OpenStudy& open);

struct ShownMatrix {
    ConfusionMatrix matrix;
    std::int64_t epoch = 0;
};

// Of the part and epoch that the options name.
ShownMatrix find_matrix(const ConfusionOptions& options, const OpenStudy& open, const RunRecord& run);

// A line for each file that the options name.
void print_files(const ConfusionOptions& options);

// --minus and --mean.
void print_difference(const ConfusionOptions& options);
void print_mean(const ConfusionOptions& options);

}  // namespace jevrin::app
