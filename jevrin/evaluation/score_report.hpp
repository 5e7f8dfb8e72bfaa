// All scores of one run's predictions, with intervals, baselines and calibration.
#pragma once

#include "jevrin/metrics/calibration.hpp"
#include "jevrin/metrics/scores.hpp"

#include <array>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {

struct ScoreReport {
    Scores scores;
    Scores majority;  // of always predicting the most frequent class
    Scores random;    // of predicting classes as often as they occur
    std::array<std::optional<Interval>, measure_count> intervals;  // 95 %
    std::vector<ReliabilityBin> bins;
    // Of the model that predicted so, and the scores with it; nothing when that is not at hand.
    std::optional<double> temperature;
    Scores tempered;
    BootstrapSettings bootstrap;

    const std::optional<Interval>& interval(Measure measure) const {
        return intervals[static_cast<std::size_t>(measure)];
    }
};

ScoreReport score_report(const PredictionTable& table, const ScoreSettings& settings,
                         const BootstrapSettings& bootstrap, std::optional<double> temperature);

}  // namespace jevrin::inline v1
