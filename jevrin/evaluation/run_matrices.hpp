// Confusion matrices of runs, for a part and an epoch; sums over several runs.
#pragma once

#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// The runs of these names that have a matrix: a run that is named needs one epoch, of a candidate the
// finished runs count. InputError when there is none.
std::vector<RunRecord> runs_with_matrices(const Ledger& ledger, const StudyRecord& study,
                                          const std::vector<std::string>& names);

struct RunMatrix {
    ConfusionMatrix matrix;
    std::int64_t epoch = 0;  // of the weights; of several runs, that of the first
};

// Of one run: recorded for the validation part, predicted for the others; of the test part the ledger counts
// the look. epoch: the best unless given. InputError when the run does not have it.
RunMatrix matrix_of(const Ledger& ledger, const StudyRecord& study, const RunRecord& run, Part part,
                    std::optional<std::int64_t> epoch = std::nullopt,
                    const PredictionProgress& progress = {});

// Of several runs, added up: an item counts once for each run.
RunMatrix sum_of_matrices(const Ledger& ledger, const StudyRecord& study, const std::vector<RunRecord>& runs,
                          Part part, std::optional<std::int64_t> epoch = std::nullopt,
                          const PredictionProgress& progress = {});

}  // namespace jevrin::inline v1
