// The options of every command that uses the predictions of one run.
#pragma once

#include "output.hpp"

#include "jevrin/results/run_predictions.hpp"

namespace jevrin::app {

struct PredictionOptions {
    LedgerOptions ledger;
    std::string run;
    std::string part = "validation";
    std::int64_t epoch = 0;  // 0: the best

    PredictionQuery query() const;
};
// RUN, --part, --epoch and those of the ledger.
void add_prediction_options(Command& command, PredictionOptions& options);
// --part and --epoch alone.
Option add_part_option(Command& command, std::string& part);
Option add_epoch_option(Command& command, std::int64_t& epoch, const std::string& what);
Option add_recorded_epoch_option(Command& command, std::int64_t& epoch);
// Nothing for 0.
std::optional<std::int64_t> stated_epoch(std::int64_t epoch);

// With a bar while the run predicts.
RunPredictions open_predictions(const OpenStudy& open, const PredictionOptions& options);

}  // namespace jevrin::app
