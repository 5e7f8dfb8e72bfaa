#include "jevrin/evaluation/score_report.hpp"

namespace jevrin::inline v1 {

ScoreReport score_report(const PredictionTable& table, const ScoreSettings& settings,
                         const BootstrapSettings& bootstrap, std::optional<double> temperature) {
    ScoreReport report{.scores = score_predictions(table, settings),
                       .majority = majority_baseline(table, settings),
                       .random = random_baseline(table, settings),
                       .intervals = score_intervals(table, settings, bootstrap),
                       .bins = reliability(table),
                       .temperature = temperature,
                       .tempered = {},
                       .bootstrap = bootstrap};
    if (temperature) report.tempered = score_predictions(with_temperature(table, *temperature), settings);
    return report;
}

}  // namespace jevrin::inline v1
