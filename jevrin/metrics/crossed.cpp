#include "jevrin/metrics/crossed.hpp"

#include "jevrin/metrics/distributions.hpp"
#include "jevrin/metrics/moments.hpp"

#include <algorithm>
#include <array>
#include <cassert>
#include <cmath>
#include <limits>
#include <map>

namespace jevrin::inline v1 {
namespace {

// How many units' worth of the pooled variance each stratum borrows.
constexpr double borrowed = 4.0;

struct Stratum {
    double units = 0.0;
    double sum = 0.0;
    double squares = 0.0;  // about its mean
};

std::vector<double> units_of_strata(std::size_t units, std::span<const std::uint32_t> strata) {
    assert(strata.empty() || strata.size() == units);
    if (strata.empty()) return {static_cast<double>(units)};
    std::vector<double> result;
    for (const std::uint32_t stratum : strata) {
        if (stratum >= result.size()) result.resize(stratum + 1, 0.0);
        ++result[stratum];
    }
    return result;
}

std::vector<Stratum> strata_with(const std::vector<double>& units) {
    std::vector<Stratum> result;
    for (const double count : units) result.push_back({.units = count});
    return result;
}

// From squares within strata, each of which is known from freedom times its units less one. Strata have a
// scale in common: that of their own mean, on which all squares together are at least so many.
VarianceTerm moderated(const std::vector<Stratum>& strata, double units, double freedom, double least) {
    double present = 0.0;
    double degrees = 0.0;
    double squares = 0.0;
    for (const Stratum& stratum : strata) {
        if (stratum.units == 0.0) continue;
        present += 1.0;
        degrees += freedom * (stratum.units - 1.0);
    }
    const auto scale = [&](const Stratum& stratum) { return present * stratum.units / units; };
    for (const Stratum& stratum : strata) squares += stratum.squares * scale(stratum) * scale(stratum);
    const double missing = std::max(0.0, least - squares);
    const double pooled = (squares + missing) / degrees;
    double sum = 0.0;
    double weighed = 0.0;
    for (const Stratum& stratum : strata) {
        if (stratum.units == 0.0) continue;
        const double own =
            stratum.squares * scale(stratum) * scale(stratum) + missing * stratum.units / units;
        const double known = freedom * (stratum.units - 1.0 + borrowed);
        const double variance =
            (own + freedom * borrowed * pooled) / known / (present * present * stratum.units);
        sum += variance;
        weighed += variance * variance / known;
    }
    return {sum, weighed > 0.0 ? std::min(degrees, sum * sum / weighed) : degrees};
}

// Strata of one unit each say nothing of the variance within strata.
bool all_alone(std::span<const std::uint32_t> strata) {
    if (strata.empty()) return false;
    const std::vector<double> counts = units_of_strata(strata.size(), strata);
    return std::all_of(counts.begin(), counts.end(), [](double units) { return units <= 1.0; });
}

std::size_t stratum_at(std::span<const std::uint32_t> strata, std::size_t unit) {
    return strata.empty() ? 0 : strata[unit];
}

VarianceTerm rest_of(const SeedsByUnits& table, const CrossedTable& layout) {
    const std::size_t units = layout.unit_means.size();
    std::vector<Stratum> squares = strata_with(layout.stratum_units);
    std::vector<double> unit_sums(squares.size(), 0.0);
    for (std::size_t i = 0; i < units; ++i) unit_sums[stratum_at(layout.strata, i)] += layout.unit_means[i];
    for (const auto& row : table) {
        for (Stratum& stratum : squares) stratum.sum = 0.0;
        for (std::size_t i = 0; i < units; ++i) squares[stratum_at(layout.strata, i)].sum += row[i];
        for (std::size_t i = 0; i < units; ++i) {
            const std::size_t k = stratum_at(layout.strata, i);
            const double r =
                row[i] - layout.unit_means[i] - (squares[k].sum - unit_sums[k]) / squares[k].units;
            squares[k].squares += r * r;
        }
    }
    return moderated(squares, static_cast<double>(units), static_cast<double>(layout.seeds - 1), 0.0);
}

// Of values in strata of so many units each.
VarianceTerm variance_within(std::span<const double> values, std::span<const std::uint32_t> strata,
                             const std::vector<double>& units, double least) {
    std::vector<Stratum> squares = strata_with(units);
    for (std::size_t i = 0; i < values.size(); ++i) squares[stratum_at(strata, i)].sum += values[i];
    for (Stratum& stratum : squares)
        if (stratum.units > 0.0) stratum.sum /= stratum.units;
    for (std::size_t i = 0; i < values.size(); ++i) {
        Stratum& stratum = squares[stratum_at(strata, i)];
        const double r = values[i] - stratum.sum;
        stratum.squares += r * r;
    }
    return moderated(squares, static_cast<double>(values.size()), 1.0, least);
}

void conclude(CrossedEstimate& estimate, double confidence) {
    const double freedom = std::max(1.0, estimate.degrees_of_freedom);
    const double error = std::sqrt(estimate.variance);
    const double reach = error > 0.0 ? student_quantile(freedom, 0.5 + confidence / 2) * error : 0.0;
    estimate.interval = {estimate.mean - reach, estimate.mean + reach};
    if (estimate.mean == 0.0)
        estimate.p_value = 1.0;
    else
        estimate.p_value = error > 0.0 ? student_p_value(freedom, estimate.mean / error) : 0.0;
}

// From the tables that enter (one, or two whose difference is taken) and the variance that the units bring.
CrossedEstimate estimate_from(double mean, std::span<const CrossedTable* const> tables,
                              const VarianceTerm& of_units, double confidence) {
    const auto n = static_cast<double>(tables[0]->unit_means.size());
    CrossedEstimate estimate{.mean = mean,
                             .seeds = tables[0]->seeds,
                             .units = static_cast<std::int64_t>(tables[0]->unit_means.size())};
    for (const CrossedTable* table : tables) estimate.seeds = std::min(estimate.seeds, table->seeds);
    if (estimate.seeds == 1) {
        estimate.variance = of_units.value;
        estimate.degrees_of_freedom = of_units.degrees_of_freedom;
        estimate.unit_component = n * of_units.value;
        conclude(estimate, confidence);
        return estimate;
    }
    // The rest is in the variance of the units and in that of the seeds: once too often.
    double sum = of_units.value;
    double weighed = of_units.value * of_units.value / of_units.degrees_of_freedom;
    double rest = 0.0;
    double rest_weighed = 0.0;
    for (const CrossedTable* table : tables) {
        const auto seeds = static_cast<double>(table->seeds);
        const double of_seeds = table->of_seed.value / seeds;
        const double of_rest = table->rest.value / seeds;
        sum += of_seeds - of_rest;
        weighed += of_seeds * of_seeds / table->of_seed.degrees_of_freedom;
        rest += of_rest;
        rest_weighed += of_rest * of_rest / table->rest.degrees_of_freedom;
        estimate.seed_component += std::max(0.0, table->of_seed.value - table->rest.value);
        estimate.rest_component += n * table->rest.value;
    }
    estimate.unit_component = n * std::max(0.0, of_units.value - rest);
    if (sum > rest) {
        estimate.variance = sum;
        estimate.degrees_of_freedom = sum * sum / (weighed + rest_weighed);
    } else {
        estimate.variance = rest;
        estimate.degrees_of_freedom = rest_weighed > 0.0 ? rest * rest / rest_weighed : n - 1;
    }
    conclude(estimate, confidence);
    return estimate;
}

}  // namespace

VarianceTerm stratified_variance(std::span<const double> values, std::span<const std::uint32_t> strata,
                                 double least) {
    assert(values.size() >= 2);
    if (all_alone(strata)) strata = {};
    return variance_within(values, strata, units_of_strata(values.size(), strata), least);
}

CrossedTable crossed_table(const SeedsByUnits& table, std::span<const std::uint32_t> strata) {
    assert(!table.empty() && table[0].size() >= 2);
    const std::size_t units = table[0].size();
    if (all_alone(strata)) strata = {};
    CrossedTable layout{.seeds = std::ssize(table),
                        .strata = {strata.begin(), strata.end()},
                        .stratum_units = units_of_strata(units, strata),
                        .unit_means = std::vector<double>(units, 0.0),
                        .items = static_cast<double>(units)};
    const auto seeds = static_cast<double>(table.size());
    std::vector<double> seed_means;
    for (const auto& row : table) {
        seed_means.push_back(mean_of(row));
        for (std::size_t i = 0; i < units; ++i) layout.unit_means[i] += row[i] / seeds;
    }
    layout.mean = mean_of(seed_means);
    if (layout.seeds < 2) return layout;
    layout.of_seed = {squares_about(seed_means, layout.mean) / (seeds - 1), seeds - 1};
    layout.of_seed_alone = layout.of_seed;
    layout.rest = rest_of(table, layout);
    return layout;
}

CrossedTable crossed_table(const SeedsByUnits& table, std::span<const std::uint32_t> strata,
                           std::span<const std::int64_t> folds) {
    CrossedTable layout = crossed_table(table, strata);
    if (folds.empty() || layout.seeds < 2) return layout;
    // By fold, what each seed's run adds to the mean of its seed.
    std::map<std::int64_t, std::vector<double>> runs;
    for (std::size_t s = 0; s < table.size(); ++s)
        for (std::size_t i = 0; i < folds.size(); ++i) {
            std::vector<double>& sums = runs.try_emplace(folds[i], table.size(), 0.0).first->second;
            sums[s] += (table[s][i] - layout.unit_means[i]) / static_cast<double>(folds.size());
        }
    const auto freedom = static_cast<double>(layout.seeds - 1);
    layout.of_seed = {0.0, freedom * static_cast<double>(runs.size())};
    for (const auto& [fold, sums] : runs) layout.of_seed.value += squares_about(sums, 0.0) / freedom;
    layout.of_seed_alone = layout.of_seed;
    return layout;
}

void moderate_seeds(const std::vector<CrossedTable*>& tables) {
    struct Known {
        CrossedTable* table = nullptr;
        double log_variance = 0.0;  // less what is expected of its degrees of freedom
    };
    std::vector<Known> known;
    double mean = 0.0;
    double noise = 0.0;  // what the logarithms vary by when all variances are equal
    double freedom = 0.0;
    for (CrossedTable* table : tables) {
        const VarianceTerm& term = table->of_seed;
        if (table->seeds < 2 || !(term.value > 0.0)) continue;
        const double half = term.degrees_of_freedom / 2;
        known.push_back({table, std::log(term.value) - digamma(half) + std::log(half)});
        mean += known.back().log_variance;
        noise += trigamma(half);
        freedom += term.degrees_of_freedom;
    }
    if (known.size() < 2) return;
    const auto count = static_cast<double>(known.size());
    mean /= count;
    double squares = 0.0;
    for (const Known& one : known) squares += (one.log_variance - mean) * (one.log_variance - mean);
    const double excess = squares / (count - 1) - noise / count;
    // Two that share a variance should not count its degrees of freedom twice.
    const double most = freedom / 2;
    const double prior =
        excess > 0.0 ? 2 * trigamma_inverse(excess) : std::numeric_limits<double>::infinity();
    const double common =
        excess > 0.0 ? std::exp(mean + digamma(prior / 2) - std::log(prior / 2)) : std::exp(mean);
    for (const Known& one : known) {
        VarianceTerm& term = one.table->of_seed_alone;
        const double own = term.degrees_of_freedom;
        const double moderated =
            std::isinf(prior) ? common : (prior * common + own * term.value) / (prior + own);
        if (moderated > term.value) term = {moderated, std::max(own, std::min(prior + own, most))};
        // Of two, what they have in common says nothing of their difference.
        if (known.size() > 2) one.table->of_seed = term;
    }
}

double harmonic_units(const CrossedTable& table) {
    double strata = 0.0;
    double inverse = 0.0;
    for (const double units : table.stratum_units) {
        if (units == 0.0) continue;
        strata += 1.0;
        inverse += 1.0 / units;
    }
    return strata * strata / inverse;
}

std::vector<double> within_strata(std::span<const double> values, std::span<const std::uint32_t> strata) {
    std::vector<Stratum> sums = strata_with(units_of_strata(values.size(), strata));
    for (std::size_t i = 0; i < values.size(); ++i) sums[stratum_at(strata, i)].sum += values[i];
    std::vector<double> deviations;
    for (std::size_t i = 0; i < values.size(); ++i) {
        const Stratum& stratum = sums[stratum_at(strata, i)];
        deviations.push_back(values[i] - stratum.sum / stratum.units);
    }
    return deviations;
}

CrossedEstimate crossed_mean(const CrossedTable& table, double confidence) {
    CrossedTable alone = table;
    alone.of_seed = table.of_seed_alone;
    const std::array<const CrossedTable*, 1> tables = {&alone};
    return estimate_from(table.mean, tables,
                         variance_within(table.unit_means, table.strata, table.stratum_units, 0.0),
                         confidence);
}

CrossedEstimate crossed_mean(const SeedsByUnits& table, double confidence) {
    return crossed_mean(crossed_table(table), confidence);
}

CrossedEstimate crossed_difference(const CrossedTable& first, const CrossedTable& second, double confidence) {
    assert(first.unit_means.size() == second.unit_means.size() && first.strata == second.strata);
    std::vector<double> differences(first.unit_means.size());
    for (std::size_t i = 0; i < differences.size(); ++i)
        differences[i] = first.unit_means[i] - second.unit_means[i];
    const std::array<const CrossedTable*, 2> tables = {&first, &second};
    const double of_item = static_cast<double>(differences.size()) / first.items;
    return estimate_from(first.mean - second.mean, tables,
                         variance_within(differences, first.strata, first.stratum_units, of_item * of_item),
                         confidence);
}

CrossedEstimate with_variance(CrossedEstimate estimate, const VarianceTerm& variance, double confidence) {
    estimate.variance = variance.value;
    estimate.degrees_of_freedom = variance.degrees_of_freedom;
    conclude(estimate, confidence);
    return estimate;
}

CrossedEstimate crossed_difference(const SeedsByUnits& first, const SeedsByUnits& second, double confidence) {
    return crossed_difference(crossed_table(first), crossed_table(second), confidence);
}

}  // namespace jevrin::inline v1
