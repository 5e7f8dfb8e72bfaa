#include "jevrin/results/mistakes_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/predictions_json.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {

std::string MistakesResult::title() const {
    const char* outcome = query.outcome == ItemOutcome::wrong     ? "wrong "
                          : query.outcome == ItemOutcome::correct ? "correct "
                                                                  : "";
    return fmt::format("{}: {} {}item{}{}{}", of.what(), items.size(), outcome, items.size() == 1 ? "" : "s",
                       query.true_class.empty() ? "" : " of " + printable(query.true_class),
                       query.predicted.empty() ? "" : " predicted as " + printable(query.predicted));
}

double MistakesResult::loss(std::size_t row) const {
    constexpr double least = 1e-12;
    const PredictionTable& table = of.table();
    return -std::log(std::max(least, static_cast<double>(table.row(row)[table.labels[row]])));
}

MistakesResult report_mistakes(RunPredictions of, const MistakesQuery& query) {
    ItemSelection selection{.outcome = query.outcome, .order = query.order, .seed = query.seed};
    if (!query.true_class.empty()) selection.true_class = class_called(of.classes(), query.true_class);
    if (!query.predicted.empty()) selection.predicted = class_called(of.classes(), query.predicted);
    std::vector<std::size_t> items = select_items(of.table(), selection);
    return {.of = std::move(of), .query = query, .items = std::move(items)};
}

std::string to_json(const MistakesResult& result) {
    const PredictionTable& table = result.of.table();
    const std::vector<std::string>& classes = result.of.classes();
    Json json = head_json(result.of);
    json["selected"] = result.items.size();
    json["mistakes"] = Json::array();
    for (const std::size_t i : result.items)
        json["mistakes"].push_back({{"item", result.of.path(i)},
                                    {"id", result.of.predictions.items[i]},
                                    {"label", classes[table.labels[i]]},
                                    {"predicted", classes[table.predicted(i)]},
                                    {"correct", table.predicted(i) == table.labels[i]},
                                    {"confidence", table.confidence(i)},
                                    {"label_probability", table.row(i)[table.labels[i]]},
                                    {"loss", result.loss(i)}});
    return document(json);
}

ResultTable to_table(const MistakesResult& result) {
    const PredictionTable& predictions = result.of.table();
    const std::vector<std::string>& classes = result.of.classes();
    ResultTable table({{.key = "item", .head = "item"},
                       {.key = "label", .head = "label"},
                       {.key = "predicted", .head = "predicted"},
                       {.key = "confidence", .head = "confidence", .align = Align::right},
                       {.key = "label_probability", .head = "of its label", .align = Align::right},
                       {.key = "loss", .head = {}, .place = TableColumn::Place::csv}});
    for (const std::size_t i : result.items) {
        const double confidence = predictions.confidence(i);
        const float of_label = predictions.row(i)[predictions.labels[i]];
        table.add({name_cell(result.of.path(i), 60),
                   name_cell(classes[predictions.labels[i]]),
                   name_cell(classes[predictions.predicted(i)]),
                   {three_decimals(confidence), fmt::format("{}", confidence)},
                   {three_decimals(of_label), fmt::format("{}", of_label)},
                   fmt::format("{}", result.loss(i))});
    }
    return table;
}

std::string to_text(const MistakesResult& result, const TextForm& form) {
    const std::string text = result.title() + "\n";
    if (result.items.empty()) return text;
    const std::size_t rows = form.rows_of(result.items.size());
    return text + "\n" + to_table(result).text(form.width, rows) + form.and_more(result.items.size() - rows) +
           "\n";
}

std::vector<ShownItem> shown_items(const MistakesResult& result) {
    const PredictionTable& table = result.of.table();
    const std::vector<std::string>& classes = result.of.classes();
    std::vector<ShownItem> items;
    for (const std::size_t i : result.items) {
        const bool wrong = table.predicted(i) != table.labels[i];
        const std::string& id = result.of.predictions.items[i];
        items.push_back(
            {.item = {id, table.labels[i]},
             .lines = {fmt::format("{:.2f} {}", table.confidence(i), printable(classes[table.predicted(i)])),
                       wrong ? fmt::format("{:.2f} {} (label)", table.row(i)[table.labels[i]],
                                           printable(classes[table.labels[i]]))
                             : std::string("correct"),
                       file_name_of_item(id)},
             .wrong = wrong});
    }
    return items;
}

}  // namespace jevrin::inline v1
