// Scores by amount of training data.
#pragma once

#include "jevrin/comparison/amounts.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"

namespace jevrin::inline v1 {

struct AmountsResult {
    StudyContext context;
    AmountReport report;
    std::vector<std::string> set_apart;  // what is not compared, in sentences
};
// runs: runs or candidates; none: all. InputError when no candidate was trained on several fractions.
AmountsResult report_amounts(const Ledger& ledger, const StudyRecord& study,
                             const std::vector<std::string>& runs = {});

std::string to_json(const AmountsResult& result);
// A row for each point of each curve.
ResultTable to_table(const AmountsResult& result);
std::string to_text(const AmountsResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
