// Runs from elsewhere as files, taken into a ledger.
//
// A folder of a run holds run.json (RunStatement; also "best_epoch", or "failed" with a reason), epochs.jsonl
// (an epoch a line), predictions.csv or predictions.npy of the best epoch; instead of 'predicted' in its
// lines, predictions-epoch-N.csv or .npy of single epochs; and model.onnx, the model of the best epoch.
// docs/formats.md, "Runs from elsewhere".
#pragma once

#include "jevrin/external/run_intake.hpp"

#include <cstdint>
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct TakenRun {
    std::filesystem::path from;
    std::string name;
    RunState state = RunState::finished;
    std::int64_t epochs = 0;
    bool is_new = false;  // otherwise all of it was there already
    std::vector<std::string> warnings;
};

// The folders of runs among these paths and directly in them: those that hold a run.json. InputError when
// there is none.
std::vector<std::filesystem::path> find_run_folders(const std::vector<std::filesystem::path>& paths);

// One transaction: the whole run or, with an InputError that names file, place and cure, nothing of it. Its
// model comes after that: when it is refused, the run stays without one.
TakenRun take_run_folder(LedgerWriter& writer, const std::filesystem::path& folder);

// Predictions alone, a CSV or NPY file, as a run of one epoch. An empty split stands for that of the study.
TakenRun take_predictions(LedgerWriter& writer, const std::filesystem::path& file, RunStatement statement);

}  // namespace jevrin::inline v1
