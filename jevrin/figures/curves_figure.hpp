// Training and validation curves as a picture, and drawn with characters for the terminal.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin {

// The epochs of one run.
struct RunCurves {
    RunRecord run;
    std::vector<EpochRecord> epochs;
};

// Two panels, loss and the metric, over epochs. One colour per candidate: each run's validation curve thin,
// the mean over seeds thick, the mean training loss dashed; a single run shows its best epoch as a ring.
void draw_curves(const std::vector<RunCurves>& curves, Metric metric, const std::string& title,
                 const std::filesystem::path& file);

// The same in characters, width columns wide: a chart of the loss and one of the metric. With one run, t is
// training and v validation; with several, each candidate has a letter and the mean of its runs is drawn.
std::string terminal_curves(const std::vector<RunCurves>& curves, Metric metric, std::size_t width);

}  // namespace jevrin
