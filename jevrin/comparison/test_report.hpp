// The test scores of the chosen candidate.
#pragma once

#include "jevrin/comparison/choice.hpp"
#include "jevrin/evaluation/part_predictions.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct TestedRun {
    std::string run;
    double validation = 0.0;  // of the metric at its best epoch
    double test = 0.0;
};

struct TestReport {
    std::string candidate;
    Metric metric = Metric::balanced_accuracy;
    std::int64_t items = 0;
    std::int64_t units = 0;  // that they are; 0 when runs saw different items
    std::vector<TestedRun> runs;
    double mean = 0.0;        // on the test part
    Interval interval;        // 95 %, over seeds and units; with one run over units alone
    double validation = 0.0;  // mean of the same runs
    std::string words;        // the test score beside the validation score, and what inflated that
    std::int64_t test_looks = 0;
};

// Scores every run of the chosen candidate on the test part: each is a look that the ledger records.
// InputError when the study has no test part or its images are gone.
TestReport report_on_test(const std::filesystem::path& ledger, const StudyRecord& study, const Choice& choice,
                          const PredictionProgress& progress = {});

}  // namespace jevrin::inline v1
