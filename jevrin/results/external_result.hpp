// Runs from elsewhere: the parts that they train on, and what was taken in.
#pragma once

#include "jevrin/external/parts_list.hpp"
#include "jevrin/external/run_folder.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"

#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct PartsResult {
    PartsList list;
};
std::string to_json(const PartsResult& result);
std::string to_text(const PartsResult& result, const TextForm& form = {});
// A row for each item. Orders are columns order_SEED_EPOCH: the place of the item in that epoch, from 1.
ResultTable to_table(const PartsResult& result);

struct IntakeResult {
    std::vector<TakenRun> runs;
};
std::string to_json(const IntakeResult& result);
std::string to_text(const IntakeResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
