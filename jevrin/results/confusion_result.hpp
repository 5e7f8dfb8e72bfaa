// Confusion matrices: of a run, the sum or mean of several, the difference of two.
#pragma once

#include "jevrin/comparison/matrices.hpp"
#include "jevrin/evaluation/run_matrices.hpp"
#include "jevrin/results/confusion_text.hpp"
#include "jevrin/results/form.hpp"

namespace jevrin::inline v1 {

struct ConfusionQuery {
    std::vector<std::string> runs;  // or candidates, with all their runs
    Part part = Part::validation;
    std::optional<std::int64_t> epoch = std::nullopt;  // otherwise the best
};

struct ConfusionResult {
    StudyContext context;
    std::vector<RunRecord> runs;  // added up: an item counts once for each run
    Part part = Part::validation;
    RunMatrix shown;
    CellValue value = CellValue::counts;

    std::string title() const;
};
ConfusionResult report_confusion(const Ledger& ledger, const StudyRecord& study, const ConfusionQuery& query,
                                 CellValue value = CellValue::counts,
                                 const PredictionProgress& progress = {});
std::string to_json(const ConfusionResult& result);
ResultTable to_table(const ConfusionResult& result);
std::string to_text(const ConfusionResult& result, const TextForm& form = {});

// One image of a strip of matrices.
struct ConfusionFrame {
    ConfusionMatrix matrix;
    std::string label;
};
// Epochs of a run at even distances, at most twelve, the first and the last among them.
std::vector<ConfusionFrame> confusion_frames(const Ledger& ledger, const RunRecord& run);

// One candidate, or run, against another.
struct MatrixDifferenceResult {
    StudyContext context;
    CandidateEvidence first;
    CandidateEvidence second;
    MatrixDifference difference;  // first - second

    std::string title() const;
};
// InputError when one side means several candidates, or both were not validated on the same items.
MatrixDifferenceResult report_difference(const Ledger& ledger, const StudyRecord& study,
                                         const std::vector<std::string>& first,
                                         const std::vector<std::string>& second);
std::string to_json(const MatrixDifferenceResult& result);
ResultTable to_table(const MatrixDifferenceResult& result);
std::string to_text(const MatrixDifferenceResult& result, const TextForm& form = {});

struct MatrixMeanResult {
    StudyContext context;
    std::vector<RunRecord> runs;
    Part part = Part::validation;
    MatrixSpread spread;

    std::string title() const;
};
MatrixMeanResult report_mean_confusion(const Ledger& ledger, const StudyRecord& study,
                                       const ConfusionQuery& query, const PredictionProgress& progress = {});
std::string to_json(const MatrixMeanResult& result);
ResultTable to_table(const MatrixMeanResult& result);
std::string to_text(const MatrixMeanResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
