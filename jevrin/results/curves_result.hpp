// Training and validation curves of runs.
#pragma once

#include "jevrin/comparison/curves.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"

namespace jevrin::inline v1 {

struct CurvesResult {
    StudyContext context;
    std::vector<RunCurves> curves;
    CurveView view;                       // what the text draws
    std::vector<std::string> candidates;  // of the study, as letters count them

    std::string title() const;
};
// runs: runs or candidates; none: all. Without quantities the view shows the loss and the study's metric;
// InputError for more than four.
CurvesResult report_curves(const Ledger& ledger, const StudyRecord& study,
                           const std::vector<std::string>& runs = {}, CurveView view = {.quantities = {}});

std::string to_json(const CurvesResult& result);
// A row for each run and epoch with every quantity.
ResultTable to_table(const CurvesResult& result);
std::string to_text(const CurvesResult& result, const TextForm& form = {});

// The same runs at one epoch: their text is a row for each, their JSON that of the curves.
struct CurvesAtEpoch {
    CurvesResult of;
    std::int64_t epoch = 1;
};
std::string to_json(const CurvesAtEpoch& result);
ResultTable to_table(const CurvesAtEpoch& result);
std::string to_text(const CurvesAtEpoch& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
