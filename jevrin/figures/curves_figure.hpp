// Training and validation curves as a figure, and drawn with characters for the terminal.
#pragma once

#include "jevrin/comparison/curves.hpp"
#include "jevrin/results/candidate_styles.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// A panel for each quantity, at most four. One colour per candidate: the mean over its runs on validation
// thick with the runs' range as a band, the mean on training dashed; smoothed curves with the unsmoothed ones
// faint behind; a mark of the regime at the mean best epoch. A single run shows training, validation and its
// best epoch.
void draw_curves(const std::vector<RunCurves>& curves, const CurveView& view, const CandidateStyles& styles,
                 const std::string& title, const std::filesystem::path& file);

}  // namespace jevrin::inline v1
