#include "jevrin/results/scores_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/predictions_json.hpp"
#include "jevrin/results/result_table.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

// Those that are not equal to another one for items of one label and one prediction.
constexpr Measure listed[] = {Measure::accuracy,
                              Measure::balanced_accuracy,
                              Measure::macro_precision,
                              Measure::macro_f1,
                              Measure::weighted_precision,
                              Measure::weighted_f1,
                              Measure::top_k,
                              Measure::kappa,
                              Measure::matthews,
                              Measure::roc_auc,
                              Measure::average_precision,
                              Measure::cross_entropy,
                              Measure::brier,
                              Measure::calibration_error};

std::string scores_table(const ScoreReport& report, std::size_t width) {
    ResultTable table({"", "score", "95 % interval", "majority", "random"}, {1, 3, 4});
    for (const Measure measure : listed) {
        const auto& interval = report.interval(measure);
        table.add({spoken_measure(measure, report.scores.k), three_decimals(report.scores[measure]),
                   interval ? fmt::format("{:.3f} to {:.3f}", interval->low, interval->high) : "",
                   three_decimals(report.majority[measure]), three_decimals(report.random[measure])});
    }
    return table.text(width);
}

std::string reliability_table(const ScoreReport& report, std::size_t width) {
    ResultTable table({"confidence", "items", "mean", "accuracy"}, {1, 2, 3});
    for (const ReliabilityBin& bin : report.bins)
        if (bin.items > 0)
            table.add({fmt::format("{:.1f} to {:.1f}", bin.low, bin.high), std::to_string(bin.items),
                       fmt::format("{:.3f}", bin.confidence), fmt::format("{:.3f}", bin.accuracy())});
    std::string text = table.text(width);
    if (!report.temperature) return text;
    if (*report.temperature == 1.0)
        return text +
               "the model has no calibration temperature: its validation part was too small or without "
               "mistakes, or "
               "it is not of the best epoch\n";
    return text +
           fmt::format(
               "calibration temperature {:.3f} (fitted on validation, stored in the model): calibration "
               "error {:.3f}, cross-entropy {:.3f}\n",
               *report.temperature, report.tempered[Measure::calibration_error],
               report.tempered[Measure::cross_entropy]);
}

// What the size of the part allows to say.
std::string caution(const ScoreReport& report) {
    const auto& accuracy = report.interval(Measure::accuracy);
    constexpr std::int64_t few = 100;
    if (!accuracy || report.scores.items >= few) return "";
    return fmt::format("{} are few: the 95 % interval of the accuracy is {:.3f} to {:.3f}\n",
                       plural(report.scores.items, "item"), accuracy->low, accuracy->high);
}

}  // namespace

ScoresResult report_scores(const Ledger& ledger, RunPredictions of, const ScoresQuery& query) {
    std::optional<double> temperature;
    if (of.source.empty()) temperature = temperature_of(ledger, of.run, of.predictions.epoch);
    ScoreReport report = score_report(of.table(), {.k = query.top_k}, {.seed = query.seed}, temperature);
    return {.of = std::move(of), .report = std::move(report)};
}

std::string to_json(const ScoresResult& result) {
    const ScoreReport& report = result.report;
    Json json = head_json(result.of);
    json["correct"] = report.scores.correct;
    json["k"] = report.scores.k;
    json["scores"] = Json::object();
    for (std::size_t m = 0; m < measure_count; ++m) {
        const auto measure = static_cast<Measure>(m);
        json["scores"][measure_name(measure)] = {{"value", number(report.scores[measure])},
                                                 {"interval", interval_json(report.intervals[m])},
                                                 {"majority", number(report.majority[measure])},
                                                 {"random", number(report.random[measure])}};
    }
    json["bootstrap"] = {{"resamples", report.bootstrap.resamples},
                         {"seed", report.bootstrap.seed},
                         {"confidence", report.bootstrap.confidence}};
    json["reliability"] = Json::array();
    for (const ReliabilityBin& bin : report.bins)
        json["reliability"].push_back({{"low", bin.low},
                                       {"high", bin.high},
                                       {"items", bin.items},
                                       {"confidence", bin.confidence},
                                       {"accuracy", bin.accuracy()}});
    if (report.temperature)
        json["temperature"] = {{"value", *report.temperature},
                               {"calibration_error", report.tempered[Measure::calibration_error]},
                               {"cross_entropy", report.tempered[Measure::cross_entropy]}};
    else
        json["temperature"] = nullptr;
    return document(json);
}

std::string to_text(const ScoresResult& result, const TextForm& form) {
    const ScoreReport& report = result.report;
    return fmt::format("{}: {} of {} correct, {} wrong\n{}\n", result.of.what(), report.scores.correct,
                       report.scores.items, report.scores.items - report.scores.correct, caution(report)) +
           scores_table(report, form.width) +
           wrapped(fmt::format("intervals: Wilson for proportions, combined from the recalls for balanced "
                               "accuracy, {} bootstrap samples of the items (seed {}) for the others; micro "
                               "averages equal accuracy",
                               report.bootstrap.resamples, report.bootstrap.seed),
                   form.width) +
           "\n" + reliability_table(report, form.width) + "\n";
}

}  // namespace jevrin::inline v1
