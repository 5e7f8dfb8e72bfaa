#include "jevrin/external/parts_list.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/training/sampling.hpp"

#include <fmt/format.h>

#include <map>

namespace jevrin::inline v1 {
namespace {

// By class; 0 where it has no training item.
std::vector<double> balanced_weights(const std::vector<PlacedItem>& items, std::size_t classes) {
    std::vector<std::size_t> counts(classes, 0);
    std::size_t all = 0;
    for (const PlacedItem& item : items)
        if (item.part == Part::training) {
            ++counts.at(item.label);
            ++all;
        }
    std::vector<double> weights(classes, 0.0);
    for (std::size_t c = 0; c < classes; ++c)
        if (counts[c] > 0)
            weights[c] =
                static_cast<double>(all) / (static_cast<double>(classes) * static_cast<double>(counts[c]));
    return weights;
}

// Training runs count items of the whole set; the list leaves out those in no part.
std::vector<ListedOrder> list_orders(const std::vector<PlacedItem>& items,
                                     const PartsListSettings& settings) {
    std::vector<std::size_t> training;
    std::vector<std::size_t> labels;
    std::vector<std::size_t> places;
    std::size_t listed = 0;
    for (std::size_t i = 0; i < items.size(); ++i) {
        labels.push_back(items[i].label);
        places.push_back(listed);
        if (items[i].part) ++listed;
        if (items[i].part == Part::training) training.push_back(i);
    }
    std::vector<ListedOrder> orders;
    for (const std::uint64_t seed : settings.seeds)
        for (std::int64_t epoch = 1; epoch <= settings.epochs; ++epoch) {
            ListedOrder& order = orders.emplace_back(ListedOrder{.seed = seed, .epoch = epoch, .items = {}});
            for (const std::int64_t item :
                 order_of_epoch(training, labels, Sampling::natural, seed, static_cast<std::uint32_t>(epoch)))
                order.items.push_back(places[static_cast<std::size_t>(item)]);
        }
    return orders;
}

}  // namespace

PartsList list_parts(const Ledger& ledger, const StudyRecord& study, const PartsListSettings& settings) {
    const SplitId split = ledger.split_with_fold(study.id, settings.fold);
    const std::vector<PlacedItem> items = ledger.placed_items(split);
    PartsList list{.study = study.name,
                   .image_set = ledger.image_set_fingerprint(split),
                   .split = ledger.split_hash(split),
                   .fold = settings.fold,
                   .classes = study.classes,
                   .items = {},
                   .orders = list_orders(items, settings)};
    const std::vector<double> weights = balanced_weights(items, study.classes.size());
    std::map<ItemNumber, std::string> ids;
    for (const PlacedItem& item : items) ids[item.number] = item.id;
    for (const PlacedItem& item : items) {
        if (!item.part) continue;
        const bool shows_label = *item.part != Part::test || settings.test_labels;
        list.items.push_back({.item = item.id,
                              .path = path_of_item(item.id),
                              .part = *item.part,
                              .fold = item.fold,
                              .label = shows_label ? study.classes.at(item.label) : "",
                              .unit = ids[item.unit],
                              .weight = *item.part == Part::training ? weights[item.label] : 0.0});
    }
    return list;
}

void record_parts_look(const Ledger& ledger, const PartsList& list) {
    std::vector<ContentHash> images;
    for (const ListedPlace& item : list.items)
        if (item.part == Part::test)
            if (const auto content =
                    ContentHash::from_text(std::string_view(item.item).substr(item.item.rfind('#') + 1)))
                images.push_back(*content);
    LedgerWriter::open(ledger.directory()).record_look("parts", images);
}

}  // namespace jevrin::inline v1
