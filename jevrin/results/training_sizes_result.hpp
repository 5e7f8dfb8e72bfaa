// Scores by training-set size.
#pragma once

#include "jevrin/comparison/training_sizes.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"

namespace jevrin::inline v1 {

struct TrainingSizesResult {
    StudyContext context;
    TrainingSizeReport report;
    std::vector<std::string> set_apart;  // what is not compared, in sentences
};
// runs: runs or candidates; none: all. InputError when no candidate was trained on several fractions.
TrainingSizesResult report_training_sizes(const Ledger& ledger, const StudyRecord& study,
                                          const std::vector<std::string>& runs = {});

std::string to_json(const TrainingSizesResult& result);
// A row for each point of each curve.
ResultTable to_table(const TrainingSizesResult& result);
std::string to_text(const TrainingSizesResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
