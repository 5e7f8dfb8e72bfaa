#include "jevrin/results/external_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

#include <array>

namespace jevrin::inline v1 {
namespace {

Json or_null(const std::string& text) {
    return text.empty() ? Json() : Json(text);
}

}  // namespace

std::string to_json(const PartsResult& result) {
    const PartsList& list = result.list;
    Json items = Json::array();
    for (const ListedPlace& item : list.items)
        items.push_back({{"item", item.item},
                         {"path", item.path},
                         {"label", or_null(item.label)},
                         {"part", name_of(item.part)},
                         {"fold", item.fold},
                         {"unit", item.unit},
                         {"weight", item.weight > 0.0 ? Json(item.weight) : Json()}});
    Json orders = Json::array();
    for (const ListedOrder& order : list.orders)
        orders.push_back({{"seed", order.seed}, {"epoch", order.epoch}, {"items", order.items}});
    return document({{"study", list.study},
                     {"image_set", list.image_set},
                     {"split", list.split},
                     {"fold", list.fold},
                     {"classes", list.classes},
                     {"items", std::move(items)},
                     {"orders", std::move(orders)}});
}

std::string to_text(const PartsResult& result, const TextForm&) {
    const PartsList& list = result.list;
    std::array<std::int64_t, all_parts.size()> counts{};
    bool test_labels = false;
    for (const ListedPlace& item : list.items) {
        ++counts[static_cast<std::size_t>(item.part)];
        test_labels = test_labels || (item.part == Part::test && !item.label.empty());
    }
    std::string text =
        fmt::format("{}, {}: ", printable(list.study),
                    list.classes.size() == 1 ? "1 class" : fmt::format("{} classes", list.classes.size()));
    for (const Part part : all_parts)
        text += fmt::format("{}{} {}", part == Part::training ? "" : ", ",
                            with_commas(counts[static_cast<std::size_t>(part)]), name_of(part));
    if (list.fold > 0) text += fmt::format(" (fold {} is validation)", list.fold);
    text += fmt::format("\nimage set {}\nsplit {}: what a run from elsewhere states as its \"split\"\n",
                        list.image_set, list.split);
    if (counts[static_cast<std::size_t>(Part::test)] > 0 && !test_labels)
        text += "labels of the test part are left out: it is sealed\n";
    return text;
}

ResultTable to_table(const PartsResult& result) {
    const PartsList& list = result.list;
    std::vector<TableColumn> columns;
    for (const char* key : {"item", "path", "label", "part", "fold", "unit", "weight", "split"})
        columns.push_back({.key = key, .head = key});
    std::vector<std::vector<std::string>> places(list.orders.size(),
                                                 std::vector<std::string>(list.items.size()));
    for (std::size_t k = 0; k < list.orders.size(); ++k) {
        const std::string key = fmt::format("order_{}_{}", list.orders[k].seed, list.orders[k].epoch);
        columns.push_back({.key = key, .head = key});
        for (std::size_t i = 0; i < list.orders[k].items.size(); ++i)
            places[k][list.orders[k].items[i]] = std::to_string(i + 1);
    }
    ResultTable table(std::move(columns));
    for (std::size_t i = 0; i < list.items.size(); ++i) {
        const ListedPlace& item = list.items[i];
        std::vector<TableCell> cells = {item.item,
                                        item.path,
                                        item.label,
                                        name_of(item.part),
                                        std::to_string(item.fold),
                                        item.unit,
                                        item.weight > 0.0 ? fmt::format("{}", item.weight) : "",
                                        list.split};
        for (const auto& column : places) cells.emplace_back(column[i]);
        table.add(std::move(cells));
    }
    return table;
}

std::string to_json(const IntakeResult& result) {
    Json runs = Json::array();
    for (const TakenRun& run : result.runs)
        runs.push_back({{"run", run.name},
                        {"from", run.from.string()},
                        {"state", name_of(run.state)},
                        {"epochs", run.epochs},
                        {"new", run.is_new},
                        {"warnings", run.warnings}});
    return document({{"runs", std::move(runs)}});
}

std::string to_text(const IntakeResult& result, const TextForm&) {
    std::string text;
    for (const TakenRun& run : result.runs) {
        text += fmt::format("{}: {}, {}{}\n", printable(run.name), plural(run.epochs, "epoch"),
                            run.state == RunState::unverified
                                ? "unverified: without predictions, its scores are claimed"
                                : name_of(run.state),
                            run.is_new ? "" : ", was there already");
        for (const std::string& warning : run.warnings)
            text += fmt::format("  warning: {}\n", printable(warning));
    }
    return text;
}

}  // namespace jevrin::inline v1
