// One run: what it is, its scores, its matrices epoch by epoch, its items, its layers.
#include "jevrin/base/error.hpp"
#include "jevrin/pages/view_functions.hpp"
#include "jevrin/results/classes_result.hpp"
#include "jevrin/results/diagnosis_result.hpp"
#include "jevrin/results/item_result.hpp"
#include "jevrin/results/mistakes_result.hpp"
#include "jevrin/results/run_result.hpp"
#include "jevrin/results/runs_result.hpp"
#include "jevrin/results/scores_result.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <set>

namespace jevrin::inline v1 {
namespace {

// Of a list of items; those that come first are the surest mistakes.
constexpr std::size_t most_items = 20'000;

// Nonzero cells as place and count in turn; the place is true class * classes + predicted.
Json sparse_cells(const ConfusionMatrix& matrix) {
    Json cells = Json::array();
    const std::size_t classes = matrix.classes();
    for (std::size_t row = 0; row < classes; ++row)
        for (std::size_t column = 0; column < classes; ++column)
            if (const std::int64_t count = matrix.at(row, column); count != 0) {
                cells.push_back(row * classes + column);
                cells.push_back(count);
            }
    return cells;
}

// Only these epochs, where the page has the others.
EpochRange range_of(const ViewQuery& query) {
    constexpr std::int64_t most = 1'000'000'000;
    return {.first = query.number("from", 1, most), .last = query.number("to", most, most)};
}

RunPredictions predictions_of(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const RunRecord run = ledger.run(study.id, query.required("run"));
    require_finished(run);
    return open_predictions(ledger, study, {.run = run.name()});
}

struct ListedItem {
    std::string id;
    std::size_t label = 0;
    std::size_t predicted = 0;
    std::optional<double> confidence = {};  // of other epochs than the best none is kept
    std::optional<double> label_probability = {};
};

// Mistakes first, the surest of them first; then what is right, the surest first.
Json items_json(const std::string& run, std::int64_t epoch, std::vector<ListedItem> items) {
    std::stable_sort(items.begin(), items.end(), [](const ListedItem& a, const ListedItem& b) {
        const bool right_a = a.predicted == a.label;
        const bool right_b = b.predicted == b.label;
        return right_a != right_b ? !right_a : a.confidence > b.confidence;
    });
    const std::size_t all = items.size();
    items.resize(std::min(items.size(), most_items));
    Json json = Json::array();
    for (const ListedItem& item : items)
        json.push_back(Json::array({item.id, item.label, item.predicted, short_number(item.confidence),
                                    short_number(item.label_probability)}));
    return {{"run", run}, {"epoch", epoch}, {"all", all}, {"items", std::move(json)}};
}

std::vector<ListedItem> items_at_epoch(const Ledger& ledger, const RunRecord& run, std::int64_t epoch) {
    const std::vector<OutcomeRecord> outcomes = ledger.outcomes(run.id, Part::validation);
    const std::vector<std::vector<std::size_t>> by_epoch = ledger.epoch_predictions(run.id);
    if (epoch > std::ssize(by_epoch))
        throw InputError(
            fmt::format("what '{}' called each item at epoch {} is not recorded", run.name(), epoch));
    const std::vector<std::size_t>& predicted = by_epoch[static_cast<std::size_t>(epoch - 1)];
    std::vector<ListedItem> items;
    for (std::size_t i = 0; i < std::min(outcomes.size(), predicted.size()); ++i)
        items.push_back({ledger.item_id(outcomes[i].item), outcomes[i].label, predicted[i]});
    return items;
}

std::vector<ListedItem> items_of(const RunPredictions& of) {
    const PredictionTable& table = of.table();
    const std::vector<std::size_t> predicted = table.predicted();
    std::vector<ListedItem> items;
    for (std::size_t i = 0; i < of.predictions.items.size(); ++i)
        items.push_back({of.predictions.items[i], table.labels[i], predicted[i], table.confidence(i),
                         table.row(i)[table.labels[i]]});
    return items;
}

}  // namespace

Json run_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const RunResult result = report_run(ledger, study, query.required("run"));
    Json json = parse_json(to_json(result));
    json.erase("settings");  // the plan says them
    json["plan"] = without_paths(result.plan);
    json["warnings"] = Json::array();
    for (const WarningRecord& warning : result.warnings)
        json["warnings"].push_back({{"epoch", warning.epoch}, {"message", without_paths(warning.message)}});
    json["spoken_state"] = spoken_state(result.run);
    json["reason"] = without_paths(result.run.reason);
    json["epochs"] = result.run.epochs;
    json["planned_epochs"] = result.run.planned_epochs;
    json["best_epoch"] = result.run.best ? Json(result.run.best->epoch) : Json();
    json["parameters"] = result.run.parameters;
    json["trainable_parameters"] = result.run.trainable_parameters;
    json["seconds"] = short_number(result.run.seconds);
    json["diagnosis"] = result.run.epochs > 0
                            ? parse_json(to_json(report_diagnoses(ledger, study, {result.run.name()}))).at(0)
                            : Json();
    return json;
}

Json scores_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    return parse_json(to_json(report_scores(ledger, predictions_of(ledger, study, query))));
}

Json classes_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    return parse_json(to_json(report_classes(predictions_of(ledger, study, query), {.sort = "name"})));
}

Json matrices_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const RunRecord run = ledger.run(study.id, query.required("run"));
    Json epochs = Json::array();
    for (const RecordedEpoch& epoch : ledger.epochs(run.id, range_of(query)))
        epochs.push_back({{"epoch", epoch.epoch}, {"cells", sparse_cells(epoch.validation)}});
    return {{"run", run.name()},
            {"best_epoch", run.best ? Json(run.best->epoch) : Json()},
            {"epochs", std::move(epochs)}};
}

Json items_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const RunRecord run = ledger.run(study.id, query.required("run"));
    std::int64_t epoch = query.number("epoch", 0, 1'000'000'000);
    std::vector<ListedItem> items;
    if (epoch > 0) {
        items = items_at_epoch(ledger, run, epoch);
    } else {
        const RunPredictions of = predictions_of(ledger, study, query);
        items = items_of(of);
        epoch = of.predictions.epoch;
    }
    const std::set<std::string> sealed = ledger.sealed_elsewhere(study.id);
    std::erase_if(items, [&](const ListedItem& item) { return sealed.contains(item.id); });
    return items_json(run.name(), epoch, std::move(items));
}

Json item_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const ItemRecord item = ledger.unsealed_item(study.id, query.required("item"));
    Json runs = Json::array();
    for (const auto& [run, prediction] : ledger.predictions_of_item(study.id, item.id)) {
        Json probabilities = Json::array();
        for (const float probability : prediction.probabilities)
            probabilities.push_back(short_number(probability));
        runs.push_back(
            {{"run", run}, {"predicted", prediction.predicted}, {"probabilities", std::move(probabilities)}});
    }
    Json mark;
    for (const MarkRecord& one : ledger.marks(study.id))
        if (one.item == item.id)
            mark = {{"label", one.label}, {"excluded", one.excluded}, {"note", one.note}};
    return {{"item", item.id}, {"label", item.label}, {"runs", std::move(runs)}, {"mark", std::move(mark)}};
}

Json neighbours_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const ItemRecord item = ledger.unsealed_item(study.id, query.required("item"));
    const ItemResult result =
        report_item(ledger, study, {.run = query.required("run"), .item = path_of_item(item.id)});
    Json neighbours = Json::array();
    const std::set<std::string> sealed = ledger.sealed_elsewhere(study.id);
    for (const LikeItem& other : result.neighbours)
        if (!sealed.contains(other.item.id))
            neighbours.push_back({{"item", other.item.id},
                                  {"label", other.item.label},
                                  {"similarity", short_number(other.similarity)}});
    return {{"run", result.run.name()}, {"item", item.id}, {"neighbours", std::move(neighbours)}};
}

Json layers_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const RunRecord run = ledger.run(study.id, query.required("run"));
    Json epochs = Json::array();
    Json names = Json::array();
    const EpochRange range = range_of(query);
    for (std::int64_t epoch = std::max<std::int64_t>(1, range.first);
         epoch <= std::min(run.epochs, range.last); ++epoch) {
        const std::vector<LayerSummary> layers = ledger.layers(run.id, epoch);
        if (layers.empty()) continue;
        Json row = {{"epoch", epoch},
                    {"weight_norm", Json::array()},
                    {"gradient_norm", Json::array()},
                    {"update_ratio", Json::array()},
                    {"dead_fraction", Json::array()}};
        if (names.empty())
            for (const LayerSummary& layer : layers) names.push_back(layer.layer);
        for (const LayerSummary& layer : layers) {
            row["weight_norm"].push_back(short_number(layer.weight_norm));
            row["gradient_norm"].push_back(short_number(layer.gradient_norm));
            row["update_ratio"].push_back(short_number(layer.update_ratio));
            row["dead_fraction"].push_back(layer.dead_fraction < 0 ? Json()
                                                                   : short_number(layer.dead_fraction));
        }
        epochs.push_back(std::move(row));
    }
    return {{"run", run.name()}, {"layers", std::move(names)}, {"epochs", std::move(epochs)}};
}

}  // namespace jevrin::inline v1
