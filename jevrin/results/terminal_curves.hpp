// Training and validation curves drawn in the terminal.
#pragma once

#include "jevrin/comparison/curves.hpp"
#include "jevrin/results/candidate_styles.hpp"
#include "jevrin/results/form.hpp"

#include <string>
#include <vector>

namespace jevrin::inline v1 {

// A chart of each quantity with a legend beside it, form.width columns wide. Of one candidate training and
// validation; of several the validation curves, each the mean of the candidate's runs, with its last value.
std::string terminal_curves(const std::vector<RunCurves>& curves, const CurveView& view,
                            const CandidateStyles& styles, const TextForm& form);

}  // namespace jevrin::inline v1
