// The axes of a candidate: `vary` names settings and the values they take, and each combination becomes a
// candidate of its own.
//
//     [candidate.vary]
//     training.optimiser.learning_rate = [0.01, 0.03, 0.1]       # a list: each of them
//     head.dropout = { low = 0.0, high = 0.5 }                   # a range: drawn at random,
//     samples = 8                                                # so many combinations
//     seed = 1
#pragma once

#include "jevrin/base/table_reader.hpp"
#include "jevrin/plan/varied_setting.hpp"

#include <cstdint>
#include <string>
#include <variant>
#include <vector>

namespace jevrin::inline v1 {

// One combination: for each axis the place in its list, or a number drawn from its range.
using AxisValue = std::variant<std::size_t, std::int64_t, double>;

struct Axis {
    std::vector<std::string> path;  // of keys
    std::size_t choices = 0;        // of a list; 0: a range
    double low = 0.0;
    double high = 0.0;
    bool whole = false;        // integers
    bool logarithmic = false;  // evenly drawn on a logarithmic scale
};

struct Axes {
    std::vector<Axis> axes;
    std::vector<std::vector<AxisValue>> combinations;
};

// Reads a `vary` table. InputError with the place for whatever is wrong, or more than 1000 combinations.
Axes read_axes(TableReader vary);

// Puts one combination into the candidate's table, moving list elements out of its `vary`, which disappears.
std::vector<VariedSetting> apply_axes(const Axes& axes, const std::vector<AxisValue>& combination,
                                      SettingNode& candidate, const TableReader& places);

}  // namespace jevrin::inline v1
