// A confusion matrix as text and as a table.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/results/result_table.hpp"

#include <string>
#include <vector>

namespace jevrin::inline v1 {

// What a cell shows: its items, their fraction of the true class (recall on the diagonal), or of what is
// predicted as the class (precision there).
enum class CellValue { counts, of_true, of_predicted };

// The matrix as numbers, rows of true classes.
std::vector<std::vector<double>> cell_values(const ConfusionMatrix& matrix, CellValue value);
// One of them.
std::string spoken_cell(double value, CellValue kind);

// A table with recall and precision of each class, numbers aligned. A matrix wider than this is given as the
// list of its fullest cells off the diagonal.
std::string terminal_confusion(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                               std::size_t width, CellValue value = CellValue::counts);

// A row for each true class, a column for each predicted one.
ResultTable matrix_table(const std::vector<std::vector<double>>& values,
                         const std::vector<std::string>& classes);

}  // namespace jevrin::inline v1
