// Confusion matrices across runs as figures.
#pragma once

#include "jevrin/comparison/matrices.hpp"
#include "jevrin/results/candidate_styles.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// first - second by cell, blue where the first has more and orange where the second has; cells beyond chance
// are framed. Up to 30 classes each cell has its figure and the gains of recall stand beside; of more,
// classes that are confused stand together, their names are thinned and the largest differences are listed.
void draw_difference(const MatrixDifference& difference, const std::vector<std::string>& classes,
                     const std::string& title, const std::filesystem::path& file);

// The mean share in each cell, and below it the standard deviation, for up to 30 classes; of more the shades
// alone.
void draw_spread(const MatrixSpread& spread, const std::vector<std::string>& classes,
                 const std::string& title, const std::filesystem::path& file);

// Recall of each class (rows, the hardest first) by each candidate (columns). Of more than 60 classes the 60
// hardest, of more than 40 candidates the first 40.
void draw_recalls(const RecallTable& table, const std::vector<std::string>& classes,
                  const CandidateStyles& styles, const std::string& title, const std::filesystem::path& file);

}  // namespace jevrin::inline v1
