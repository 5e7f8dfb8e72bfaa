// What figures of matrices share.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"

#include <cstddef>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Up to so many classes each cell has its figure, and the classes their own order.
inline constexpr std::size_t most_with_figures = 30;

// Shares from 0 to 1; any cell that is not empty can be told from white.
inline constexpr const char* share_palette =
    "set palette defined (0 '#ffffff', 0.001 '#dcebf0', 0.1 '#b4d2db', 0.5 '#5d9aa8', 1 '#123c4a')\n"
    "set cbrange [0:1]\n";

// A class's name, cut to what fits beside a matrix.
std::string name_of(const std::vector<std::string>& classes, std::size_t one);

// The matrix as a block of gnuplot data: column, row, share.
std::string shade_data(const std::string& block, const std::vector<std::vector<double>>& fractions);

// The order of the classes; of many, the one in which confused ones are neighbours.
std::vector<std::size_t> display_order(const ConfusionMatrix& matrix);

// Names of every few classes, so that they do not touch.
std::string class_tics(const std::vector<std::string>& classes, const std::vector<std::size_t>& order,
                       std::size_t most);

}  // namespace jevrin::inline v1
