// The command confusion: one matrix, the difference of two, the mean of several.
#pragma once

#include "output.hpp"

#include "jevrin/evaluation/run_matrices.hpp"

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

// Of the part and epoch that the options name, added up.
RunMatrix find_matrix(const ConfusionOptions& options, const OpenStudy& open,
                      const std::vector<RunRecord>& runs);

// A line for each file that the options name.
void print_files(const ConfusionOptions& options);

// --minus and --mean.
void print_difference(const ConfusionOptions& options);
void print_mean(const ConfusionOptions& options);

}  // namespace jevrin::app
