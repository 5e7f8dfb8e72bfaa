// Confusion matrices as a picture, as text, as a strip over epochs.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin {

// What a cell says: its items, their share of the true class (recall on the diagonal), or of what is
// predicted as the class (precision there).
enum class CellValue { counts, of_true, of_predicted };

// The matrix as numbers, rows of true classes.
std::vector<std::vector<double>> cell_values(const ConfusionMatrix& matrix, CellValue value);

// Shade follows the share (of the true class for counts). Up to 30 classes stand in their order with a figure
// in each cell; more are put in an order in which confused classes are neighbours, every few of them with its
// name, and the fullest cells off the diagonal are listed beside.
void draw_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                    const std::string& title, const std::filesystem::path& file,
                    CellValue value = CellValue::counts);

// One picture of a strip.
struct ConfusionFrame {
    ConfusionMatrix matrix;
    std::string label;
};
// Small matrices side by side, all in one order and with one scale of shades, by share of the true class.
void draw_confusion_strip(const std::vector<ConfusionFrame>& frames, const std::vector<std::string>& classes,
                          const std::string& title, const std::filesystem::path& file);

// A table with recall and precision of each class, numbers aligned. A matrix wider than this is given as the
// list of its fullest cells off the diagonal.
std::string terminal_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                               std::size_t width, CellValue value = CellValue::counts);

// The same as CSV: a row for each true class, a column for each predicted one.
std::string matrix_csv(const std::vector<std::vector<double>>& values,
                       const std::vector<std::string>& classes);
std::string confusion_csv(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                          CellValue value = CellValue::counts);

}  // namespace jevrin
