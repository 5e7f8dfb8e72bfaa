#include "jevrin/comparison/test_report.hpp"

#include "jevrin/metrics/influence.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

namespace jevrin::inline v1 {
namespace {

std::string in_words(const TestReport& report, const Choice& choice) {
    const std::string metric = spoken_metric(report.metric);
    std::string text = fmt::format(
        "'{}' scores {:.3f} {} on {} test items (95 % interval {:.3f} to {:.3f}), mean of {} {}; on "
        "validation the same "
        "runs score {:.3f}.",
        report.candidate, report.mean, metric, report.items, report.interval.low, report.interval.high,
        report.runs.size(), report.runs.size() == 1 ? "run" : "runs", report.validation);
    text += fmt::format(
        " The validation score is inflated, because each run's best epoch was selected on it{}; report the "
        "test score.",
        choice.optimism && choice.ranking.size() > 1
            ? fmt::format(", and so was the best of {} candidates (about {:.3f})", choice.ranking.size(),
                          *choice.optimism)
            : std::string());
    if (report.test_looks > std::ssize(report.runs))
        text += fmt::format(
            " The test part of this study has now been looked at {} times: if an earlier look influenced a "
            "decision, this score is inflated too.",
            report.test_looks);
    return text;
}

// By item, which unit it is of.
std::vector<std::int64_t> units_of(const Ledger& ledger, const RunRecord& run,
                                   const std::vector<std::string>& items) {
    std::map<std::string, std::int64_t> known = ledger.units(run.id, Part::test);
    std::vector<std::int64_t> units;
    for (const std::string& item : items) units.push_back(known[item]);
    return units;
}

// A row of the table over which the test score is estimated; every run is one.
SeedOutcomes test_outcomes(const PartPredictions& predictions, const std::vector<std::int64_t>& units,
                           Metric metric, std::int64_t number) {
    const std::vector<std::size_t>& labels = predictions.table.labels;
    const std::vector<std::size_t> predicted = predictions.table.predicted();
    const std::vector<std::int64_t> items(labels.size(), 0);
    std::vector<double> correct;
    for (std::size_t i = 0; i < labels.size(); ++i) correct.push_back(labels[i] == predicted[i] ? 1.0 : 0.0);
    const ConfusionMatrix matrix = predictions.matrix();
    return unit_outcomes({.seed = number,
                          .items = items,
                          .units = units,
                          .folds = {},
                          .labels = labels,
                          .predicted = predicted},
                         item_influences(matrix.classes(), labels, predicted, metric), correct,
                         score(matrix, metric), item_strata(labels, metric));
}

}  // namespace

TestReport report_on_test(const std::filesystem::path& ledger_directory, const StudyRecord& study,
                          const Choice& choice, const PredictionProgress& progress) {
    TestReport report{.candidate = choice.chosen, .metric = study.metric};
    const Ledger ledger = Ledger::open(ledger_directory);
    std::vector<SeedOutcomes> outcomes;
    bool same_items = true;
    std::vector<std::string> items;
    for (const RunRecord& run : ledger.runs(study.id)) {
        if (run.candidate != choice.chosen || run.state != RunState::finished || !run.best) continue;
        const PartPredictions predictions =
            predict_part(ledger_directory, study.name, run.name(), Part::test, std::nullopt, progress);
        const ConfusionMatrix matrix = predictions.matrix();
        report.runs.push_back(
            {run.name(), validation_score(*run.best, study.metric), score(matrix, study.metric)});
        outcomes.push_back(test_outcomes(predictions, units_of(ledger, run, predictions.items), study.metric,
                                         std::ssize(outcomes)));
        same_items &= items.empty() || items == predictions.items;
        items = predictions.items;
    }
    report.items = std::ssize(items);
    std::vector<double> scores;
    for (const TestedRun& run : report.runs) {
        scores.push_back(run.test);
        report.validation += run.validation / static_cast<double>(report.runs.size());
    }
    report.mean = mean_interval(scores).mean;
    report.interval = mean_interval(scores).interval.value_or(Interval{0.0, 1.0});
    if (same_items && items.size() > 1) {
        report.units = std::ssize(outcomes.front().units);
        if (report.units > 1) report.interval = score_of(CandidateOutcomes(outcomes))->interval();
    }
    report.test_looks = std::ssize(ledger.test_looks(study.id));
    report.words = in_words(report, choice);
    return report;
}

}  // namespace jevrin::inline v1
