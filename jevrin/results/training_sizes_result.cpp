#include "jevrin/results/training_sizes_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

TrainingSizesResult report_training_sizes(const Ledger& ledger, const StudyRecord& study,
                                          const std::vector<std::string>& runs) {
    const StudyEvidence evidence = gather_evidence(ledger, study, runs_called(ledger, study, runs));
    return {.context = context_of(ledger, study),
            .report = learning_curves(study, evidence),
            .set_apart = evidence.set_apart};
}

std::string to_json(const TrainingSizesResult& result) {
    Json curves = Json::array();
    for (const TrainingSizeCurve& curve : result.report.curves) {
        Json points = Json::array();
        for (const TrainingSizePoint& point : curve.points)
            points.push_back({{"fraction", point.fraction},
                              {"training_items", point.training_items},
                              {"candidate", point.candidate},
                              {"mean", point.mean},
                              {"interval", interval_json(point.interval)},
                              {"seeds", point.seeds}});
        curves.push_back({{"name", curve.name}, {"regime", name_of(curve.regime)}, {"points", points}});
    }
    Json catch_ups = Json::array();
    for (const CatchUp& one : result.report.catch_ups)
        catch_ups.push_back({{"behind", one.behind},
                             {"ahead", one.ahead},
                             {"fraction", or_null(one.fraction)},
                             {"first_gap", one.first_gap},
                             {"last_gap", one.last_gap},
                             {"times_more", or_null(one.times_more)},
                             {"words", one.words}});
    return document({{"metric", name_of(result.context.study.metric)},
                     {"curves", curves},
                     {"catch_ups", catch_ups},
                     {"test_looks", result.context.looks.size()}});
}

ResultTable to_table(const TrainingSizesResult& result) {
    ResultTable table(
        {{.key = "curve", .head = "curve"},
         {.key = "regime", .head = "regime"},
         {.key = "fraction", .head = "fraction", .align = Align::right},
         {.key = "training_items", .head = "training items", .align = Align::right},
         {.key = "mean", .head = spoken_metric(result.context.study.metric), .align = Align::right},
         {.key = {}, .head = "95 % over seeds", .place = TableColumn::Place::text},
         {.key = "low", .head = {}, .place = TableColumn::Place::csv},
         {.key = "high", .head = {}, .place = TableColumn::Place::csv},
         {.key = "seeds", .head = "seeds", .align = Align::right}});
    for (const TrainingSizeCurve& curve : result.report.curves)
        for (const TrainingSizePoint& point : curve.points) {
            const bool first = &point == &curve.points.front();
            table.add({{first ? shortened_name(curve.name, 40) : "", curve.name},
                       {first ? name_of(curve.regime) : "", name_of(curve.regime)},
                       {fmt::format("{:.3g}", point.fraction), fmt::format("{}", point.fraction)},
                       count_cell(point.training_items),
                       decimal_cell(point.mean),
                       point.interval
                           ? fmt::format("{:.3f} to {:.3f}", point.interval->low, point.interval->high)
                           : "one seed: unknown",
                       point.interval ? fmt::format("{}", point.interval->low) : "",
                       point.interval ? fmt::format("{}", point.interval->high) : "",
                       std::to_string(point.seeds)});
        }
    return table;
}

std::string to_text(const TrainingSizesResult& result, const TextForm& form) {
    std::string text = to_table(result).text(form.width) + "\n";
    for (const CatchUp& one : result.report.catch_ups) text += wrapped(one.words + ".", form.width);
    for (const std::string& sentence : result.set_apart) text += sentence + "\n";
    return text;
}

}  // namespace jevrin::inline v1
