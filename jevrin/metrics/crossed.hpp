// Estimates from tables of seeds by items when both are random: the seed of a run, and the items of the part.
//
// A table holds, for each seed, the influence of each item on that run's score (item_influences()). Its mean
// is the score; what is the mean worth? With S seeds, n items and the mean squares of the two-way layout,
//
//     variance = (MS_seeds + MS_items - MS_rest) / (S n),   never below MS_rest / (S n),
//
// with Satterthwaite's (1946) degrees of freedom. docs/choice.md derives the difference of two tables.
#pragma once

#include "jevrin/metrics/intervals.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

struct CrossedEstimate {
    double mean = 0.0;
    double variance = 0.0;  // of the mean
    double degrees_of_freedom = 0.0;
    Interval interval;       // Student's
    double p_value = 1.0;    // two-sided, of a true mean of 0
    std::int64_t seeds = 0;  // of a difference, those of the table that has fewer
    std::int64_t items = 0;
    // Components of variance, none below 0: of a seed, of an item, of a seed and an item together. With S
    // seeds and n items the variance of the mean is expected to be seed / S + item / n + rest / (S n).
    double seed_component = 0.0;
    double item_component = 0.0;
    double rest_component = 0.0;
};

// table[seed][item]; at least one seed and two items, all rows of one length. With one seed the variance is
// that of the items alone.
using SeedsByItems = std::vector<std::span<const double>>;
CrossedEstimate crossed_mean(const SeedsByItems& table, double confidence = 0.95);

// The mean of the first table less that of the second, on the same items. Items are paired; the seeds of the
// two are taken as independent draws and need not be equally many. (Seeds that help both candidates alike
// make the interval too wide, not too narrow, and the seeds' variance is known twice as well as from their
// differences.) As soon as one of the tables has a single seed, the variance is that of the items alone.
CrossedEstimate crossed_difference(const SeedsByItems& first, const SeedsByItems& second,
                                   double confidence = 0.95);

}  // namespace jevrin::inline v1
