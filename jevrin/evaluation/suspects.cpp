#include "jevrin/evaluation/suspects.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/evaluation/run_features.hpp"
#include "jevrin/evaluation/run_names.hpp"

#include <fmt/format.h>

#include <map>

namespace jevrin::inline v1 {

SuspectReport suspects_by_features(const Ledger& ledger, const StudyRecord& study, const RunRecord& run,
                                   const PredictionProgress& progress) {
    constexpr std::int64_t folds = 5;
    if (run.regime != Regime::frozen)
        throw InputError(
            fmt::format("the features of '{}' were trained on these labels ({}); name a frozen run, "
                        "or use what "
                        "runs predicted on the validation part",
                        run.name(), name_of(run.regime)));
    std::vector<ItemRecord> items = ledger.items(run.id, Part::training);
    const std::vector<ItemRecord> validation = ledger.items(run.id, Part::validation);
    items.insert(items.end(), validation.begin(), validation.end());
    const RunFeatures features = features_of_run(ledger, study, run, items, progress);
    SuspectReport report;
    report.predictions = out_of_fold_predictions(features, study.classes.size(), folds);
    report.suspects = find_suspect_labels(report.predictions.table);
    report.source = fmt::format(
        "logistic regression on the frozen features of {}, each item predicted by a "
        "fit to the other {} of {} folds",
        run.name(), folds - 1, folds);
    return report;
}

SuspectReport suspects_by_predictions(const Ledger& ledger, const StudyRecord& study,
                                      const std::vector<RunRecord>& runs) {
    struct Sum {
        std::size_t label = 0;
        double runs = 0.0;
        std::vector<double> probabilities;
    };
    const std::size_t classes = study.classes.size();
    std::map<std::string, Sum> sums;
    for (const RunRecord& run : runs) {
        require_finished(run);
        for (const PredictionRecord& record : ledger.predictions(run.id, Part::validation)) {
            Sum& sum = sums[record.item];
            sum.label = record.label;
            sum.probabilities.resize(classes, 0.0);
            for (std::size_t c = 0; c < std::min(classes, record.probabilities.size()); ++c)
                sum.probabilities[c] += static_cast<double>(record.probabilities[c]);
            ++sum.runs;
        }
    }
    SuspectReport report;
    PredictionTable& table = report.predictions.table;
    table.classes = classes;
    for (const auto& [item, sum] : sums) {
        report.predictions.items.push_back(item);
        table.labels.push_back(sum.label);
        for (const double p : sum.probabilities)
            table.probabilities.push_back(static_cast<float>(p / sum.runs));
    }
    report.suspects = find_suspect_labels(table);
    report.source = fmt::format("what {} run{} predicted for items of the validation part", runs.size(),
                                runs.size() == 1 ? "" : "s");
    return report;
}

const EnumNames<SuspectSource>& names_of(SuspectSource) {
    static const EnumNames<SuspectSource> names(
        "the source", {{SuspectSource::features, "features"}, {SuspectSource::recorded, "recorded"}});
    return names;
}

SuspectReport find_suspects(const Ledger& ledger, const StudyRecord& study,
                            const std::vector<std::string>& names, SuspectSource source,
                            const PredictionProgress& progress) {
    const std::vector<RunRecord> runs = finished_runs_called(ledger, study, names);
    std::vector<RunRecord> frozen;
    for (const RunRecord& run : runs)
        if (run.regime == Regime::frozen) frozen.push_back(run);
    const RunRecord* best = best_run(frozen, study.metric);
    if (best == nullptr || source == SuspectSource::recorded)
        return suspects_by_predictions(ledger, study, runs);
    return suspects_by_features(ledger, study, *best, progress);
}

}  // namespace jevrin::inline v1
