#include "jevrin/results/item_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_features.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/results/terminal_drawing.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

// Where a run has an item; the test part is left alone.
Part part_of_item(const Ledger& ledger, const RunRecord& run, const ItemRecord& item) {
    for (const Part part : all_parts) {
        const std::vector<ItemRecord> items = ledger.items(run.id, part);
        const auto here = std::any_of(items.begin(), items.end(),
                                      [&](const ItemRecord& other) { return other.id == item.id; });
        if (!here) continue;
        if (part == Part::test)
            throw InputError(
                fmt::format("{}: this item is in the test part, which is sealed; only the mistakes of the "
                            "test part show it, and looking at them is recorded",
                            printable(path_of_item(item.id))));
        return part;
    }
    throw InputError(fmt::format("{}: run '{}' did not have this item; it saw another version of the images",
                                 printable(path_of_item(item.id)), run.name()));
}

std::vector<LikeItem> items_like(const Ledger& ledger, const StudyRecord& study, const RunRecord& run,
                                 const ItemRecord& item, std::size_t most,
                                 const PredictionProgress& progress) {
    if (most == 0) return {};
    std::vector<ItemRecord> items;
    for (const ItemRecord& other : ledger.items(run.id, Part::training))
        if (other.id != item.id) items.push_back(other);
    items.push_back(item);
    const RunFeatures features = features_of_run(ledger, study, run, items, progress);
    std::vector<LikeItem> like;
    for (const Neighbour& neighbour : nearest_items(features, items.size() - 1, most))
        like.push_back({items[neighbour.item], neighbour.similarity});
    return like;
}

// "crazing why": what is proposed, then the note.
std::string spoken_mark(const MarkRecord& mark) {
    const std::string proposed = mark.excluded ? "to be excluded" : mark.label;
    return fmt::format("{}{}{}", proposed, proposed.empty() ? "" : " ", mark.note);
}

std::string neighbours_table(const ItemResult& result, std::size_t width) {
    ResultTable table({"nearest training items", "label", "similarity"}, {2});
    std::size_t same = 0;
    for (const LikeItem& other : result.neighbours) {
        same += other.item.label == result.item.label ? 1U : 0U;
        table.add({name_cell(path_of_item(other.item.id), 60),
                   name_cell(result.study.classes[other.item.label]), three_decimals(other.similarity)});
    }
    return table.text(width) + fmt::format("{} of {} have the same label\n", same, result.neighbours.size());
}

}  // namespace

std::vector<std::size_t> ItemResult::order() const {
    std::vector<std::size_t> order(probabilities.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return probabilities[a] > probabilities[b]; });
    return order;
}

std::string ItemResult::title() const {
    return fmt::format("{} and its nearest training items, by the features of {}", path_of_item(item.id),
                       run.name());
}

ItemResult report_item(const Ledger& ledger, const StudyRecord& study, const ItemQuery& query,
                       const PredictionProgress& progress) {
    ItemResult result{.study = study,
                      .run = ledger.run(study.id, query.run),
                      .item = ledger.item(study.id, query.item),
                      .probabilities = {},
                      .neighbours = {},
                      .mark = {}};
    result.part = part_of_item(ledger, result.run, result.item);
    result.probabilities =
        predict_items(ledger.directory(), study.name, result.run.name(), {result.item}).table.probabilities;
    result.neighbours = items_like(ledger, study, result.run, result.item, query.neighbours, progress);
    for (const MarkRecord& mark : ledger.marks(study.id))
        if (mark.item == result.item.id) result.mark = mark;
    return result;
}

std::string to_json(const ItemResult& result) {
    const std::vector<std::string>& classes = result.study.classes;
    const std::string path = path_of_item(result.item.id);
    Json json = {{"item", path},
                 {"id", result.item.id},
                 {"file", result.study.image_root + "/" + path},
                 {"run", result.run.name()},
                 {"part", name_of(result.part)},
                 {"label", classes[result.item.label]},
                 {"predicted", classes[result.predicted()]},
                 {"probabilities", Json::array()},
                 {"neighbours", Json::array()}};
    for (const std::size_t c : result.order())
        json["probabilities"].push_back({{"class", classes[c]}, {"probability", result.probabilities[c]}});
    for (const LikeItem& other : result.neighbours)
        json["neighbours"].push_back({{"item", path_of_item(other.item.id)},
                                      {"label", classes[other.item.label]},
                                      {"similarity", other.similarity}});
    return document(json);
}

std::string to_text(const ItemResult& result, const TextForm& form) {
    const std::vector<std::string>& classes = result.study.classes;
    std::string text =
        fmt::format("{}\n{} part of {}; label {}, predicted {}{}\n\n",
                    printable(result.study.image_root + "/" + path_of_item(result.item.id)),
                    name_of(result.part), printable(result.run.name()), printable(classes[result.item.label]),
                    printable(classes[result.predicted()]),
                    result.part == Part::training ? " (in the training part)" : "");
    ResultTable table({"class", "probability", ""}, {1});
    for (const std::size_t c : result.order()) {
        const float p = result.probabilities[c];
        table.add(
            {name_cell(classes[c]), three_decimals(p),
             bar(static_cast<double>(p), 40, form.rich) + (c == result.item.label ? "  <- label" : "")});
    }
    constexpr std::size_t most = 20;
    text += table.text(form.width, most);
    if (!result.neighbours.empty()) text += "\n" + neighbours_table(result, form.width);
    if (result.mark && !spoken_mark(*result.mark).empty())
        text += "\nmarked: " + printable(spoken_mark(*result.mark)) + "\n";
    return text;
}

std::vector<ShownItem> shown_items(const ItemResult& result) {
    const std::vector<std::string>& classes = result.study.classes;
    const std::size_t label = result.item.label;
    const std::size_t predicted = result.predicted();
    std::vector<ShownItem> items = {
        {.item = result.item,
         .lines = {fmt::format("{:.2f} {}", result.probabilities[predicted], printable(classes[predicted])),
                   fmt::format("{:.2f} {} (label)", result.probabilities[label], printable(classes[label])),
                   file_name_of_item(result.item.id)},
         .wrong = predicted != label}};
    for (const LikeItem& other : result.neighbours)
        items.push_back({.item = other.item,
                         .lines = {fmt::format("similarity {:.3f}", other.similarity),
                                   fmt::format("{} (label)", printable(classes[other.item.label])),
                                   file_name_of_item(other.item.id)},
                         .wrong = other.item.label != label});
    return items;
}

}  // namespace jevrin::inline v1
