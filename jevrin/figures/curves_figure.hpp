// Training and validation curves as a picture, and drawn with characters for the terminal.
#pragma once

#include "jevrin/comparison/curves.hpp"
#include "jevrin/figures/candidate_style.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin {

struct CurveView {
    std::vector<CurveQuantity> quantities = {CurveQuantity::loss, CurveQuantity::balanced_accuracy};
    CurveAxis axis = CurveAxis::epoch;
    double smoothing = 0.0;  // weight of what came before, in [0, 1): smoothed()
    bool log_scale = false;  // of values
};

// A panel for each quantity, at most four. One colour per candidate: the mean over its runs on validation
// thick with the runs' range as a band, the mean on training dashed; smoothed curves with the unsmoothed ones
// faint behind; a mark of the regime at the mean best epoch. A single run shows training, validation and its
// best epoch.
void draw_curves(const std::vector<RunCurves>& curves, const CurveView& view, const CandidateStyles& styles,
                 const std::string& title, const std::filesystem::path& file);

// The same in characters, width columns wide: a chart of each quantity. With one candidate, t is training and
// v validation; with several, each candidate has its letter and the mean of its runs on validation is drawn.
std::string terminal_curves(const std::vector<RunCurves>& curves, const CurveView& view,
                            const CandidateStyles& styles, std::size_t width);

}  // namespace jevrin
