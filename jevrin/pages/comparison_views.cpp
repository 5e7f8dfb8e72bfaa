// Two candidates against each other, cell by cell and picture by picture.
#include "jevrin/base/error.hpp"
#include "jevrin/pages/view_functions.hpp"
#include "jevrin/results/confusion_result.hpp"

#include <algorithm>
#include <cmath>
#include <set>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_differing_items = 2'000;

// How often the runs of one side had an item, and were right about it.
struct Share {
    std::int64_t right = 0;
    std::int64_t runs = 0;
    std::size_t predicted = 0;  // by the last of them

    double value() const { return runs == 0 ? 0.0 : static_cast<double>(right) / static_cast<double>(runs); }
};
struct Contested {
    std::size_t label = 0;
    Share first;
    Share second;
};

void count(const CandidateEvidence& side, Share Contested::*share, std::map<std::int64_t, Contested>& items) {
    for (const RunEvidence& run : side.runs)
        for (std::size_t i = 0; i < run.items.size(); ++i) {
            Contested& item = items[run.items[i]];
            item.label = run.labels[i];
            Share& own = item.*share;
            ++own.runs;
            own.right += run.predicted[i] == run.labels[i] ? 1 : 0;
            own.predicted = run.predicted[i];
        }
}

Json share_json(const Share& share) {
    return Json::array({share.right, share.runs, share.predicted});
}

// Items that one side has right more often, the clearest first.
Json contested_items(const Ledger& ledger, const StudyRecord& study, const MatrixDifferenceResult& result) {
    std::map<std::int64_t, Contested> items;
    count(result.first, &Contested::first, items);
    count(result.second, &Contested::second, items);
    std::vector<std::pair<std::int64_t, const Contested*>> order;
    for (const auto& [number, item] : items)
        if (item.first.runs > 0 && item.second.runs > 0 && item.first.value() != item.second.value())
            order.emplace_back(number, &item);
    std::stable_sort(order.begin(), order.end(), [](const auto& a, const auto& b) {
        const auto gap = [](const Contested& one) {
            return std::abs(one.first.value() - one.second.value());
        };
        return gap(*a.second) > gap(*b.second);
    });
    order.resize(std::min(order.size(), most_differing_items));
    Json json = Json::array();
    const std::set<std::string> sealed = ledger.sealed_elsewhere(study.id);
    for (const auto& [number, item] : order)
        if (const std::string id = ledger.item_id({number}); !sealed.contains(id))
            json.push_back(Json::array({id, item->label, share_json(item->first), share_json(item->second)}));
    return json;
}

}  // namespace

Json difference_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const MatrixDifferenceResult result =
        report_difference(ledger, study, {query.required("first")}, {query.required("second")});
    Json json = parse_json(to_json(result));
    json["seeds"] = result.difference.seeds;
    json["items"] = contested_items(ledger, study, result);
    return json;
}

}  // namespace jevrin::inline v1
