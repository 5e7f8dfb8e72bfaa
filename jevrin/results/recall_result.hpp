// Recall of each class by candidate.
#pragma once

#include "jevrin/comparison/matrices.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"

namespace jevrin::inline v1 {

struct RecallResult {
    StudyContext context;
    RecallTable recalls;
    std::vector<std::string> candidates;  // of the study, as letters count them
    std::vector<std::string> set_apart;   // what is not compared, in sentences
};
// runs: runs or candidates; none: all.
RecallResult report_recalls(const Ledger& ledger, const StudyRecord& study,
                            const std::vector<std::string>& runs = {});

std::string to_json(const RecallResult& result);
// A column of mean recalls for each candidate.
ResultTable to_table(const RecallResult& result);
std::string to_text(const RecallResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
