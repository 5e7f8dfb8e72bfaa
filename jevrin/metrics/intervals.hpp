// Confidence intervals.
#pragma once

#include <cstdint>
#include <optional>
#include <span>

namespace jevrin::inline v1 {

struct Interval {
    double low = 0.0;
    double high = 0.0;
};

// The mean of values with its interval from Student's t; no interval for fewer than two values.
struct MeanInterval {
    double mean = 0.0;
    std::optional<Interval> interval;
};
MeanInterval mean_interval(std::span<const double> values, double confidence = 0.95);

// Wilson's interval for a fraction of successes (Wilson 1927); [0, 1] for no trials.
Interval wilson_interval(std::int64_t successes, std::int64_t trials, double confidence = 0.95);

// Wilson's interval for a score from 0 to 1 whose variance is known from a sample of its own: the trials are
// the effective sample size score (1 - score) / variance, and Student's quantile stands for the normal one
// (Korn & Graubard 1998). Where hardly any unit differs from the others the variance says little: to both
// sides of that fraction one more of so many units is added, of which nothing is known. units: at least 1;
// of strata with n_c units each their harmonic number, K^2 / sum 1 / n_c.
Interval score_interval(double score, double variance, double degrees_of_freedom, double units,
                        double confidence = 0.95);

// The exact interval for a fraction of successes (Clopper & Pearson 1934); [0, 1] for no trials.
Interval exact_interval(std::int64_t successes, std::int64_t trials, double confidence = 0.95);

// The mean of paired score differences over folds or redrawn parts, whose training items overlap: the
// variance is (1 / J + validation / training) times that of the J differences, with Student's t of J - 1
// degrees of freedom (the corrected resampled test, Nadeau & Bengio 2003). share is validation / training, in
// items.
struct ResampledMean {
    double mean = 0.0;
    double variance = 0.0;  // of the mean
    Interval interval = {};
    double p_value = 1.0;  // two-sided, of a true mean of 0
};
// At least two differences.
ResampledMean resampled_mean(std::span<const double> differences, double share, double confidence = 0.95);

}  // namespace jevrin::inline v1
