// All scores of one run.
#pragma once

#include "jevrin/evaluation/score_report.hpp"
#include "jevrin/results/run_predictions.hpp"

namespace jevrin::inline v1 {

struct ScoresQuery {
    std::size_t top_k = 2;
    std::uint64_t seed = 1;  // of the bootstrap samples
};

struct ScoresResult {
    RunPredictions of;
    ScoreReport report;
};
ScoresResult report_scores(const Ledger& ledger, RunPredictions of, const ScoresQuery& query = {});

std::string to_json(const ScoresResult& result);
std::string to_text(const ScoresResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
