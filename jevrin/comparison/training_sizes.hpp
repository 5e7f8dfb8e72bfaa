// Scores by training-set size: how a candidate's score grows with the fraction of the training part
// that it is trained on, and where one regime catches up with another.
#pragma once

#include "jevrin/comparison/evidence.hpp"

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct TrainingSizePoint {
    double fraction = 0.0;            // of the training part
    std::int64_t training_items = 0;  // mean over runs
    std::string candidate;
    double mean = 0.0;                 // of the metric over seeds
    std::optional<Interval> interval;  // 95 %, over seeds and units
    std::int64_t seeds = 0;
};

// Candidates that differ in nothing but the fraction.
struct TrainingSizeCurve {
    std::string name;  // of what they have in common
    Regime regime = Regime::scratch;
    std::vector<TrainingSizePoint> points;  // by fraction, at least two
};

// An extrapolation goes no farther.
inline constexpr double farthest_times_more = 10.0;

// Where the lower of two curves reaches the higher.
struct CatchUp {
    std::string behind;  // the curve that is lower at the smallest common fraction
    std::string ahead;
    // The smallest common fraction from which on the evidence no longer puts it behind; p-values are
    // corrected for the number of fractions. None with fewer than three seeds.
    std::optional<double> fraction;
    double first_gap = 0.0;  // at the smallest common fraction
    double last_gap = 0.0;   // at the largest
    // When it does not: with how many times the largest training set the gap would close, if it went on to
    // shrink with every doubling as it did so far. An extrapolation, which says nothing beyond
    // farthest_times_more (then it is that); none when the gap does not shrink.
    std::optional<double> times_more;
    std::string words;
};

struct TrainingSizeReport {
    std::vector<TrainingSizeCurve> curves;
    std::vector<CatchUp> catch_ups;  // the best curve of each regime against those of the others
};

// InputError when no candidate was trained on several fractions.
TrainingSizeReport learning_curves(const StudyRecord& study, const StudyEvidence& evidence);

}  // namespace jevrin::inline v1
