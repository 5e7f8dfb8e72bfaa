// The verdicts on pairs of candidates as a figure.
#pragma once

#include "jevrin/comparison/choice.hpp"
#include "jevrin/results/candidate_styles.hpp"

#include <filesystem>
#include <string>

namespace jevrin::inline v1 {

// A row for the better ranked candidate of each pair, a column for the other; with up to twelve candidates
// each cell has the difference and its 95 % interval. Of more than 40 candidates the first 40 are shown.
// InputError when there is only one candidate.
void draw_pairs(const Choice& choice, const CandidateStyles& styles, const std::string& title,
                const std::filesystem::path& file);

}  // namespace jevrin::inline v1
