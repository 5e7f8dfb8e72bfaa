// The choice as a figure.
#pragma once

#include "jevrin/comparison/choice.hpp"
#include "jevrin/results/candidate_styles.hpp"

#include <filesystem>
#include <string>

namespace jevrin::inline v1 {

// Four panels: the mean of each candidate with its 95 % interval, best first, the chosen one named and the
// confidence set of the best shaded; how far each lies behind the best, with its interval, the margin and the
// verdict; its expected loss with how often it is the best; and scores against the cost, the efficient front
// as a line. Of more than 40 candidates the first 40 are shown.
void draw_choice(const Choice& choice, const CandidateStyles& styles, const std::string& title,
                 const std::filesystem::path& file);

}  // namespace jevrin::inline v1
