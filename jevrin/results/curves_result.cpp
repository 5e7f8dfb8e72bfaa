#include "jevrin/results/curves_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/terminal_curves.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

Json to_json(const EpochRecord& e) {
    Json training = {{"loss", e.training_loss}, {"objective", e.objective}};
    Json validation = {{"loss", e.validation_loss}};
    for (const Metric metric : all_metrics) {
        training[name_of(metric)] = e.training_scores[metric];
        validation[name_of(metric)] = e.validation_scores[metric];
    }
    return {{"epoch", e.epoch},
            {"step", e.step},
            {"training", training},
            {"validation", validation},
            {"learning_rate", e.learning_rate},
            {"seconds", e.seconds},
            {"data_seconds", e.data_seconds},
            {"compute_seconds", e.compute_seconds},
            {"validation_seconds", e.validation_seconds},
            {"memory_bytes", e.memory_bytes}};
}

// The best epoch of each run and the losses of its last.
std::string summary_of(const CurvesResult& result, const TextForm& form) {
    const Metric metric = result.context.study.metric;
    ResultTable table({"run", "epochs", "best", "epoch", "training loss", "validation loss"},
                      {1, 2, 3, 4, 5});
    const std::size_t rows = form.rows_of(result.curves.size(), 40);
    for (const RunCurves& curves : result.curves) {
        const RunRecord& run = curves.run;
        const std::string epochs = fmt::format("{}/{}", run.epochs, run.planned_epochs);
        if (!run.best) {
            table.add({printable(run.name()), epochs, "-", "-", "-", "-"});
            continue;
        }
        const EpochRecord& last = curves.epochs.back();
        table.add({printable(run.name()), epochs, three_decimals(validation_score(*run.best, metric)),
                   std::to_string(run.best->epoch), three_decimals(last.training_loss),
                   three_decimals(last.validation_loss)});
    }
    return fmt::format("best {} and its epoch; losses of the last epoch\n\n", spoken_metric(metric)) +
           table.text(form.width, rows) + form.and_more(result.curves.size() - rows, "runs");
}

}  // namespace

std::string CurvesResult::title() const {
    return curves.size() == 1 ? fmt::format("{}: {}", context.study.name, curves[0].run.name())
                              : fmt::format("{}: {} runs", context.study.name, curves.size());
}

CurvesResult report_curves(const Ledger& ledger, const StudyRecord& study,
                           const std::vector<std::string>& runs, CurveView view) {
    if (view.quantities.empty()) view.quantities = {CurveQuantity::loss, quantity_of(study.metric)};
    constexpr std::size_t most = 4;
    if (view.quantities.size() > most)
        throw InputError(fmt::format("{} quantities are too many for one figure; give at most {}",
                                     view.quantities.size(), most));
    CurvesResult result{.context = context_of(ledger, study),
                        .curves = {},
                        .view = std::move(view),
                        .candidates = ledger.candidates(study.id)};
    for (const RunRecord& run : runs_called(ledger, study, runs))
        result.curves.push_back(curves_of_run(ledger, run));
    return result;
}

std::string to_json(const CurvesResult& result) {
    Json json = Json::array();
    for (const RunCurves& curves : result.curves) {
        Json epochs = Json::array();
        for (const EpochRecord& epoch : curves.epochs) epochs.push_back(to_json(epoch));
        json.push_back({{"run", curves.run.name()},
                        {"epochs", std::move(epochs)},
                        {"test_looks", looks_with(result.context.looks, curves.run.name())}});
    }
    return document(json);
}

ResultTable to_table(const CurvesResult& result) {
    std::vector<TableColumn> columns;
    const auto add = [&](const std::string& key) { columns.push_back({.key = key, .head = key}); };
    for (const char* key : {"run", "candidate", "regime", "seed", "fold", "epoch", "step", "examples",
                            "seconds", "learning_rate", "objective", "training_loss"})
        add(key);
    for (const Metric metric : all_metrics) add("training_" + name_of(metric));
    add("validation_loss");
    for (const Metric metric : all_metrics) add("validation_" + name_of(metric));
    ResultTable table(std::move(columns));
    for (const RunCurves& curves : result.curves) {
        const RunRecord& run = curves.run;
        double seconds = 0.0;
        for (const EpochRecord& e : curves.epochs) {
            seconds += e.seconds;
            std::vector<TableCell> cells = {run.name(), run.candidate, name_of(run.regime)};
            for (const std::int64_t number : {run.seed, run.fold, e.epoch, e.step, e.step * run.batch})
                cells.emplace_back(std::to_string(number));
            for (const double number : {seconds, e.learning_rate, e.objective, e.training_loss})
                cells.push_back(decimal_cell(number));
            for (const Metric metric : all_metrics) cells.push_back(decimal_cell(e.training_scores[metric]));
            cells.push_back(decimal_cell(e.validation_loss));
            for (const Metric metric : all_metrics)
                cells.push_back(decimal_cell(e.validation_scores[metric]));
            table.add(std::move(cells));
        }
    }
    return table;
}

std::string to_text(const CurvesResult& result, const TextForm& form) {
    return summary_of(result, form) + "\n" +
           terminal_curves(result.curves, result.view, CandidateStyles(result.candidates), form) + "\n";
}

std::string to_json(const CurvesAtEpoch& result) {
    return to_json(result.of);
}

ResultTable to_table(const CurvesAtEpoch& result) {
    const std::int64_t epoch = result.epoch;
    const auto number = [](const std::string& head, int optional) {
        return TableColumn{.key = {}, .head = head, .align = Align::right, .optional = optional};
    };
    std::vector<TableColumn> columns = {{.key = {}, .head = "run"},
                                        number("epoch", 0),
                                        number("training loss", 0),
                                        number("validation loss", 0)};
    for (const Metric metric : all_metrics)
        columns.push_back(number(spoken_metric(metric), metric == result.of.context.study.metric ? 0 : 1));
    columns.push_back(number("learning rate", 2));
    columns.push_back(number("seconds", 3));
    const std::size_t column_count = columns.size();
    ResultTable table(std::move(columns));
    for (const RunCurves& curves : result.of.curves) {
        double seconds = 0.0;
        const EpochRecord* found = nullptr;
        for (const EpochRecord& e : curves.epochs) {
            if (e.epoch > epoch) break;
            seconds += e.seconds;
            if (e.epoch == epoch) found = &e;
        }
        std::vector<TableCell> cells = {curves.run.name()};
        if (found == nullptr) {
            cells.resize(column_count, "-");
            table.add(std::move(cells));
            continue;
        }
        for (const std::string& cell : {std::to_string(epoch), three_decimals(found->training_loss),
                                        three_decimals(found->validation_loss)})
            cells.emplace_back(cell);
        for (const Metric metric : all_metrics)
            cells.emplace_back(three_decimals(found->validation_scores[metric]));
        cells.emplace_back(fmt::format("{:.3g}", found->learning_rate));
        cells.emplace_back(two_digits(seconds));
        table.add(std::move(cells));
    }
    return table;
}

std::string to_text(const CurvesAtEpoch& result, const TextForm& form) {
    const ResultTable table = to_table(result);
    return table.text(form.width) + "\n";
}

}  // namespace jevrin::inline v1
