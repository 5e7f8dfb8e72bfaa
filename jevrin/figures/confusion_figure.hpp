// Confusion matrices as a picture and as text.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin {

// Rows are true classes; shade and colour follow the share of the row, the figure in a cell is the count.
void draw_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                    const std::string& title, const std::filesystem::path& file);

// A table of counts with recall and precision of each class, numbers aligned.
std::string terminal_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes);

}  // namespace jevrin
