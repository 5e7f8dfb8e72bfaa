// Scores by training-set size as a figure.
#pragma once

#include "jevrin/comparison/training_sizes.hpp"
#include "jevrin/results/candidate_styles.hpp"

#include <filesystem>
#include <string>

namespace jevrin::inline v1 {

// Scores with their intervals over the number of training items, on a scale of doublings: each point in the
// colour of its candidate with its regime's mark, the lines between them in the colour of the candidate that
// has most items. The sentences of the report stand below.
void draw_training_sizes(const TrainingSizeReport& report, Metric metric, const CandidateStyles& styles,
                         const std::string& title, const std::filesystem::path& file);

}  // namespace jevrin::inline v1
