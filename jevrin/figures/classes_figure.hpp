// Recall and precision class by class as a figure.
#pragma once

#include "jevrin/metrics/scores.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// A line for each class in this order, from the top: recall and precision with their 95 % intervals, and the
// class's items. Of more than 60 classes the first 60 are shown, and a line says so.
void draw_classes(const std::vector<ClassScores>& scores, const std::vector<std::string>& classes,
                  const std::vector<std::size_t>& order, const std::string& title,
                  const std::filesystem::path& file);

}  // namespace jevrin::inline v1
