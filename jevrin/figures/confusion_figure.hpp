// Confusion matrices as a figure, and as a strip over epochs.
#pragma once

#include "jevrin/results/confusion_result.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Shade follows the fraction (of the true class for counts). Up to 30 classes stand in their order with a
// figure in each cell; more are put in an order in which confused classes are neighbours, every few of them
// with its name, and the fullest cells off the diagonal are listed beside.
void draw_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                    const std::string& title, const std::filesystem::path& file,
                    CellValue value = CellValue::counts);

// Small matrices side by side, all in one order and with one scale of shades, by fraction of the true class.
void draw_confusion_strip(const std::vector<ConfusionFrame>& frames, const std::vector<std::string>& classes,
                          const std::string& title, const std::filesystem::path& file);

}  // namespace jevrin::inline v1
