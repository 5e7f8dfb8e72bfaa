// The runs of a plan: every candidate with every seed and fold, the cheapest first.
#pragma once

#include "jevrin/ledger/ledger.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/study.hpp"

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct PlannedRun {
    const Candidate* candidate = nullptr;
    std::uint64_t seed = 0;
    std::int64_t fold = 0;          // 0: no folds
    std::int64_t epochs = 0;        // validations, when nothing ends it earlier
    double operations = 0.0;        // multiplications of the whole training, about
    double epoch_operations = 0.0;  // of one of its epochs
    RunIdentity identity;           // without its split
    std::string name() const;       // as the ledger calls it
};

// In order of cost; equal ones as the plan has them. The plan is that of the materials, and must outlive
// this.
std::vector<PlannedRun> plan_runs(const Materials& materials);

// The memory in bytes that training each of these takes beside images and features; InputError when one needs
// more than there is.
std::vector<std::int64_t> require_memory_of(const Materials& materials, const std::vector<PlannedRun>& runs);

// The validation items of a run, in the order of its predictions.
std::vector<std::size_t> validation_items(const Materials& materials, const PlannedRun& run);
std::vector<std::string> item_ids(const Materials& materials, const std::vector<std::size_t>& items);

// Those that are asked for.
std::vector<PlannedRun> select_runs(std::vector<PlannedRun> runs, const Selection& selection);

}  // namespace jevrin::inline v1
