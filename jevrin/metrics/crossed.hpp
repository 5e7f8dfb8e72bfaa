// Estimates from tables of seeds by units when both are random: the seed of a run, and the units (items, or
// groups of items) of the part.
//
// A table holds, for each seed, the influence of each unit on that run's score (item_influences()). Its mean
// is the score; what is the mean worth? The variance of the mean of S seeds over n units is that of the
// two-way layout,
//
//     of the seeds' means / S + of the units' means / n - of the rest / (S n),   never below rest / (S n),
//
// with Satterthwaite's (1946) degrees of freedom. Where a score is the mean over K classes, units are drawn
// within strata, the classes: their variance is the sum over strata of s_c^2 / (K^2 n_c), where a stratum
// with few units borrows from all of them (moderated, after Smyth 2004): with the squares SS_c about the
// stratum's mean, and s^2 pooled over strata,
//
//     s_c^2 = (SS_c + 4 s^2) / (n_c - 1 + 4).
//
// docs/choice.md derives the difference of two tables.
#pragma once

#include "jevrin/metrics/intervals.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

struct CrossedEstimate {
    double mean = 0.0;
    double variance = 0.0;  // of the mean
    double degrees_of_freedom = 1.0;
    Interval interval = {};  // Student's
    double p_value = 1.0;    // two-sided, of a true mean of 0
    std::int64_t seeds = 0;  // of a difference, those of the table that has fewer
    std::int64_t units = 0;
    // Components of variance, none below 0: of a seed, of a unit, of a seed and a unit together. With S
    // seeds and n units the variance of the mean is expected to be seed / S + unit / n + rest / (S n).
    double seed_component = 0.0;
    double unit_component = 0.0;
    double rest_component = 0.0;
};

// table[seed][unit]; at least one seed and two units, all rows of one length.
using SeedsByUnits = std::vector<std::span<const double>>;

// A contribution to the variance of a mean, known with so many degrees of freedom.
struct VarianceTerm {
    double value = 0.0;
    double degrees_of_freedom = 1.0;
};

// What comparisons need of a table: computed once, compared with many.
struct CrossedTable {
    std::int64_t seeds = 0;
    double mean = 0.0;
    std::vector<std::uint32_t> strata;  // of the units; empty: one stratum
    std::vector<double> stratum_units;  // of each stratum
    std::vector<double> unit_means;     // over seeds
    double items = 0.0;                 // that the units hold
    VarianceTerm of_seed = {};  // of the mean of one seed: the seed's own and the rest's; 0 for one seed
    VarianceTerm of_seed_alone = {};  // the same for the table's own mean, after moderate_seeds()
    VarianceTerm rest = {};           // of it, what neither seeds nor units explain
};
CrossedTable crossed_table(const SeedsByUnits& table, std::span<const std::uint32_t> strata = {});

// Moderates the seeds' variances of tables of one study towards what they have in common, with the weight
// that their likeness deserves (Smyth 2004): seeds that happen to agree are no proof of certainty. None gets
// smaller, and those of tables whose seeds all agree stay. Of two tables it changes of_seed_alone only: their
// difference has both variances already.
void moderate_seeds(const std::vector<CrossedTable*>& tables);

// For units in folds, each of which a run of its own has validated: the runs of a seed are independent draws,
// so that the variance of a seed's mean is known from (seeds - 1) runs of every fold.
CrossedTable crossed_table(const SeedsByUnits& table, std::span<const std::uint32_t> strata,
                           std::span<const std::int64_t> folds);

// The variance of the mean of values, one for each unit, by strata. least: the squares that all strata have
// together at least, so that nothing is certain because no unit differs.
VarianceTerm stratified_variance(std::span<const double> values, std::span<const std::uint32_t> strata,
                                 double least = 0.0);

// The number of units that a mean over strata is worth: K^2 / sum of 1 / n_c.
double harmonic_units(const CrossedTable& table);

// The values, one for each unit, less the mean of their stratum.
std::vector<double> within_strata(std::span<const double> values, std::span<const std::uint32_t> strata);

// With one seed the variance is that of the units alone.
CrossedEstimate crossed_mean(const CrossedTable& table, double confidence = 0.95);
CrossedEstimate crossed_mean(const SeedsByUnits& table, double confidence = 0.95);

// The mean of the first table less that of the second, on the same units in the same strata. Units are
// paired; the seeds of the two are taken as independent draws and need not be equally many. (Seeds that help
// both candidates alike make the interval too wide, not too narrow, and the seeds' variance is known twice as
// well as from their differences.) As soon as one of the tables has a single seed, the variance is that of
// the units alone. The units' variance is at least that of one item on which the two differ.
CrossedEstimate crossed_difference(const CrossedTable& first, const CrossedTable& second,
                                   double confidence = 0.95);
CrossedEstimate crossed_difference(const SeedsByUnits& first, const SeedsByUnits& second,
                                   double confidence = 0.95);

// The estimate with another variance of its mean.
CrossedEstimate with_variance(CrossedEstimate estimate, const VarianceTerm& variance,
                              double confidence = 0.95);

}  // namespace jevrin::inline v1
