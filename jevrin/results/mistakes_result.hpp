// The items of a run, mistakes first.
#pragma once

#include "jevrin/metrics/item_selection.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/results/run_predictions.hpp"
#include "jevrin/results/shown_items.hpp"

namespace jevrin::inline v1 {

struct MistakesQuery {
    std::string true_class = {};  // only of this class; empty: any
    std::string predicted = {};   // only predicted as this class
    ItemOutcome outcome = ItemOutcome::wrong;
    ItemOrder order = ItemOrder::confidence;
    std::uint64_t seed = 1;  // of a random order
};

struct MistakesResult {
    RunPredictions of;
    MistakesQuery query;
    std::vector<std::size_t> items;  // rows of the predictions

    // "new head/1, validation part, epoch 7: 12 wrong items of crazing".
    std::string title() const;
    // -log of the probability of the label, nats.
    double loss(std::size_t row) const;
};
// InputError for a class that there is not.
MistakesResult report_mistakes(RunPredictions of, const MistakesQuery& query = {});

std::string to_json(const MistakesResult& result);
ResultTable to_table(const MistakesResult& result);
std::string to_text(const MistakesResult& result, const TextForm& form = {});
std::vector<ShownItem> shown_items(const MistakesResult& result);

}  // namespace jevrin::inline v1
