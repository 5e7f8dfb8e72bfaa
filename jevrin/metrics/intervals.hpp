// Intervals: how far a number can be trusted.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace jevrin {

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

// Wilson's interval for a share of successes (Wilson 1927); [0, 1] for no trials.
Interval wilson_interval(std::int64_t successes, std::int64_t trials, double confidence = 0.95);

// The mean of a table of paired differences, seeds by items, and its interval when both seeds and items are
// drawn at random: the two-way random-effects variance of the mean, (MS_seeds + MS_items - MS_rest) / (seeds
// * items), never below MS_rest / (seeds * items), with Satterthwaite's (1946) degrees of freedom. With one
// seed the variance is that of the items alone.
struct CrossedInterval {
    double mean = 0.0;
    Interval interval;
    std::int64_t seeds = 0;
};
// differences[seed][item]; at least one seed, at least two items, all rows of one length.
CrossedInterval crossed_interval(const std::vector<std::vector<double>>& differences,
                                 double confidence = 0.95);

}  // namespace jevrin
