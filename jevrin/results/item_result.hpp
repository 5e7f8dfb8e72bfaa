// One item in full: its predicted probabilities and its nearest training items.
#pragma once

#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/shown_items.hpp"

namespace jevrin::inline v1 {

struct ItemQuery {
    std::string run;
    std::string item;            // its path below the image set, or the end of it
    std::size_t neighbours = 7;  // number of nearest training items; 0: none
};

struct LikeItem {
    ItemRecord item;
    double similarity = 0.0;  // cosine of the angle between the features
};

struct ItemResult {
    StudyRecord study;
    RunRecord run;
    ItemRecord item;
    Part part = Part::training;        // where the run had it
    std::vector<float> probabilities;  // by class
    std::vector<LikeItem> neighbours;  // of the training part, the most alike first
    std::optional<MarkRecord> mark;

    // Classes, the likeliest first.
    std::vector<std::size_t> order() const;
    std::size_t predicted() const { return order().front(); }
    std::string title() const;
};
// InputError when the item is in the sealed test part, or the run did not have it.
ItemResult report_item(const Ledger& ledger, const StudyRecord& study, const ItemQuery& query,
                       const PredictionProgress& progress = {});

std::string to_json(const ItemResult& result);
std::string to_text(const ItemResult& result, const TextForm& form = {});
// The item first.
std::vector<ShownItem> shown_items(const ItemResult& result);

}  // namespace jevrin::inline v1
