// The validation part of a run from elsewhere, in the order in which that run states its predictions.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <cstddef>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct ValidationRows {
    std::vector<std::string> classes;  // of the study, in its order
    std::vector<std::string> items;    // ids, row by row
    std::vector<std::size_t> labels;   // row by row
    // By column of a table of probabilities: the class. From the order in which the run states its classes.
    std::vector<std::size_t> columns;
    std::vector<std::size_t> class_counts;  // items of each class
};

// items: ids or paths in the order of the rows; empty: the order of the image set, which is that of the list
// of parts. classes: in the order of the columns; empty: that of the study. InputError when an item is not in
// the validation part of the split, stands twice or is missing, and when the classes are not those of the
// study.
ValidationRows validation_rows(const Ledger& ledger, const StudyRecord& study, SplitId split,
                               const std::vector<std::string>& items = {},
                               const std::vector<std::string>& classes = {});

}  // namespace jevrin::inline v1
