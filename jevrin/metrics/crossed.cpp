#include "jevrin/metrics/crossed.hpp"

#include "jevrin/metrics/distributions.hpp"
#include "jevrin/metrics/moments.hpp"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

// Sum of squares about the mean, over the number less one.
double variance_of(std::span<const double> values) {
    return squares_about(values, mean_of(values)) / static_cast<double>(values.size() - 1);
}

// The moments of one table.
struct Layout {
    double seeds = 0.0;
    std::vector<double> item_means;
    double mean = 0.0;
    double seed_variance = 0.0;  // of the means of seeds: the seeds' own and the rest's share
    double rest_square = 0.0;    // mean square of what neither seeds nor items explain
};

Layout lay_out(const SeedsByItems& table) {
    assert(!table.empty() && table[0].size() >= 2);
    const std::size_t items = table[0].size();
    Layout layout{.seeds = static_cast<double>(table.size()), .item_means = std::vector<double>(items, 0.0)};
    std::vector<double> seed_means;
    for (const auto& row : table) {
        seed_means.push_back(mean_of(row));
        for (std::size_t i = 0; i < items; ++i) layout.item_means[i] += row[i] / layout.seeds;
    }
    layout.mean = mean_of(seed_means);
    if (table.size() < 2) return layout;
    layout.seed_variance = variance_of(seed_means);
    double rest = 0.0;
    for (std::size_t k = 0; k < table.size(); ++k)
        for (std::size_t i = 0; i < items; ++i) {
            const double r = table[k][i] - seed_means[k] - layout.item_means[i] + layout.mean;
            rest += r * r;
        }
    layout.rest_square = rest / ((layout.seeds - 1) * static_cast<double>(items - 1));
    return layout;
}

// A term of the variance of the mean, known from so many degrees of freedom.
struct Term {
    double value = 0.0;
    double freedom = 1.0;
};

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

// From the tables that enter (one, or two whose difference is taken) and the items' variance.
CrossedEstimate estimate_from(double mean, std::span<const Layout* const> layouts, double items_variance,
                              std::size_t items, double confidence) {
    const auto n = static_cast<double>(items);
    CrossedEstimate estimate{.mean = mean, .items = static_cast<std::int64_t>(items)};
    double fewest = layouts[0]->seeds;
    for (const Layout* layout : layouts) fewest = std::min(fewest, layout->seeds);
    estimate.seeds = static_cast<std::int64_t>(fewest);
    const Term of_items{items_variance / n, n - 1};
    if (estimate.seeds == 1) {
        estimate.variance = of_items.value;
        estimate.degrees_of_freedom = of_items.freedom;
        estimate.item_component = items_variance;
        conclude(estimate, confidence);
        return estimate;
    }
    // The rest is in the variance of the items and in that of the seeds: once too often.
    double sum = of_items.value;
    double weighed = of_items.value * of_items.value / of_items.freedom;
    double rest = 0.0;
    double rest_weighed = 0.0;
    double rest_in_items = 0.0;
    for (const Layout* layout : layouts) {
        const Term of_seeds{layout->seed_variance / layout->seeds, layout->seeds - 1};
        const Term of_rest{layout->rest_square / layout->seeds / n, (layout->seeds - 1) * (n - 1)};
        sum += of_seeds.value - of_rest.value;
        weighed += of_seeds.value * of_seeds.value / of_seeds.freedom;
        rest += of_rest.value;
        rest_weighed += of_rest.value * of_rest.value / of_rest.freedom;
        estimate.seed_component += std::max(0.0, layout->seed_variance - layout->rest_square / n);
        estimate.rest_component += layout->rest_square;
        rest_in_items += layout->rest_square / layout->seeds;
    }
    estimate.item_component = std::max(0.0, items_variance - rest_in_items);
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

CrossedEstimate crossed_mean(const SeedsByItems& table, double confidence) {
    const Layout layout = lay_out(table);
    const Layout* const layouts[] = {&layout};
    return estimate_from(layout.mean, layouts, variance_of(layout.item_means), layout.item_means.size(),
                         confidence);
}

CrossedEstimate crossed_difference(const SeedsByItems& first, const SeedsByItems& second, double confidence) {
    assert(!first.empty() && !second.empty() && first[0].size() == second[0].size());
    const Layout ours = lay_out(first);
    const Layout theirs = lay_out(second);
    std::vector<double> differences(ours.item_means.size());
    for (std::size_t i = 0; i < differences.size(); ++i)
        differences[i] = ours.item_means[i] - theirs.item_means[i];
    const Layout* const layouts[] = {&ours, &theirs};
    return estimate_from(ours.mean - theirs.mean, layouts, variance_of(differences), differences.size(),
                         confidence);
}

}  // namespace jevrin::inline v1
