#include "jevrin/metrics/intervals.hpp"

#include <boost/math/distributions/normal.hpp>
#include <boost/math/distributions/students_t.hpp>

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin {
namespace {

double t_quantile(double degrees_of_freedom, double confidence) {
    const boost::math::students_t distribution(degrees_of_freedom);
    return boost::math::quantile(distribution, 0.5 + confidence / 2);
}

double mean_of(std::span<const double> values) {
    double sum = 0.0;
    for (const double v : values) sum += v;
    return sum / static_cast<double>(values.size());
}

double squares_about(std::span<const double> values, double centre) {
    double sum = 0.0;
    for (const double v : values) sum += (v - centre) * (v - centre);
    return sum;
}

}  // namespace

MeanInterval mean_interval(std::span<const double> values, double confidence) {
    if (values.empty()) return {};
    MeanInterval result{mean_of(values), std::nullopt};
    if (values.size() < 2) return result;
    const auto n = static_cast<double>(values.size());
    const double error = std::sqrt(squares_about(values, result.mean) / (n - 1) / n);
    const double reach = t_quantile(n - 1, confidence) * error;
    result.interval = Interval{result.mean - reach, result.mean + reach};
    return result;
}

Interval wilson_interval(std::int64_t successes, std::int64_t trials, double confidence) {
    if (trials == 0) return {0.0, 1.0};
    const double z = boost::math::quantile(boost::math::normal(), 0.5 + confidence / 2);
    const auto n = static_cast<double>(trials);
    const double share = static_cast<double>(successes) / n;
    const double centre = share + z * z / (2 * n);
    const double reach = z * std::sqrt(share * (1 - share) / n + z * z / (4 * n * n));
    const double scale = 1 + z * z / n;
    return {std::max(0.0, (centre - reach) / scale), std::min(1.0, (centre + reach) / scale)};
}

CrossedInterval crossed_interval(const std::vector<std::vector<double>>& differences, double confidence) {
    assert(!differences.empty() && differences[0].size() >= 2);
    const std::size_t seeds = differences.size();
    const std::size_t items = differences[0].size();
    const auto s = static_cast<double>(seeds);
    const auto n = static_cast<double>(items);
    std::vector<double> seed_means;
    std::vector<double> item_means(items, 0.0);
    for (const auto& row : differences) {
        seed_means.push_back(mean_of(row));
        for (std::size_t i = 0; i < items; ++i) item_means[i] += row[i] / s;
    }
    CrossedInterval result{
        .mean = mean_of(seed_means), .interval = {}, .seeds = static_cast<std::int64_t>(seeds)};
    double variance = 0.0;
    double freedom = n - 1;
    const double items_square = s * squares_about(item_means, result.mean) / (n - 1);
    if (seeds == 1) {
        variance = items_square / n;
    } else {
        const double seeds_square = n * squares_about(seed_means, result.mean) / (s - 1);
        double rest = 0.0;
        for (std::size_t k = 0; k < seeds; ++k)
            for (std::size_t i = 0; i < items; ++i) {
                const double r = differences[k][i] - seed_means[k] - item_means[i] + result.mean;
                rest += r * r;
            }
        const double rest_freedom = (s - 1) * (n - 1);
        const double rest_square = rest / rest_freedom;
        const double sum = seeds_square + items_square - rest_square;
        if (sum > rest_square) {
            variance = sum / (s * n);
            freedom = sum * sum /
                      (seeds_square * seeds_square / (s - 1) + items_square * items_square / (n - 1) +
                       rest_square * rest_square / rest_freedom);
        } else {
            variance = rest_square / (s * n);
            freedom = rest_freedom;
        }
    }
    const double reach =
        variance > 0 ? t_quantile(std::max(1.0, freedom), confidence) * std::sqrt(variance) : 0.0;
    result.interval = {result.mean - reach, result.mean + reach};
    return result;
}

}  // namespace jevrin
