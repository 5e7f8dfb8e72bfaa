// Training and validation curves drawn with characters.
#pragma once

#include "jevrin/comparison/curves.hpp"
#include "jevrin/results/candidate_letters.hpp"

#include <string>
#include <vector>

namespace jevrin::inline v1 {

// width columns wide: a chart of each quantity. With one candidate, t is training and v validation; with
// several, each candidate has its letter and the mean of its runs on validation is drawn.
std::string terminal_curves(const std::vector<RunCurves>& curves, const CurveView& view,
                            const CandidateLetters& letters, std::size_t width);

}  // namespace jevrin::inline v1
