#include "jevrin/metrics/intervals.hpp"

#include "jevrin/metrics/distributions.hpp"
#include "jevrin/metrics/moments.hpp"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin::inline v1 {

namespace {

Interval wilson(double share, double n, double z) {
    const double centre = share + z * z / (2 * n);
    const double reach = z * std::sqrt(share * (1 - share) / n + z * z / (4 * n * n));
    const double scale = 1 + z * z / n;
    return {std::max(0.0, (centre - reach) / scale), std::min(1.0, (centre + reach) / scale)};
}

}  // namespace

MeanInterval mean_interval(std::span<const double> values, double confidence) {
    if (values.empty()) return {};
    MeanInterval result{mean_of(values), std::nullopt};
    if (values.size() < 2) return result;
    const auto n = static_cast<double>(values.size());
    const double error = std::sqrt(squares_about(values, result.mean) / (n - 1) / n);
    const double reach = student_quantile(n - 1, 0.5 + confidence / 2) * error;
    result.interval = Interval{result.mean - reach, result.mean + reach};
    return result;
}

Interval wilson_interval(std::int64_t successes, std::int64_t trials, double confidence) {
    if (trials == 0) return {0.0, 1.0};
    const auto n = static_cast<double>(trials);
    return wilson(static_cast<double>(successes) / n, n, normal_quantile(0.5 + confidence / 2));
}

Interval score_interval(double score, double variance, double degrees_of_freedom, double units,
                        double confidence) {
    assert(units >= 1.0);
    const double p = std::clamp(score, 0.0, 1.0);
    const double phantom = 0.25 / units;
    const double trials = (p * (1 - p) + phantom) / (variance + phantom / units);
    return wilson(p, trials, student_quantile(std::max(1.0, degrees_of_freedom), 0.5 + confidence / 2));
}

Interval exact_interval(std::int64_t successes, std::int64_t trials, double confidence) {
    const double tail = (1 - confidence) / 2;
    return {successes == 0 ? 0.0 : beta_quantile(successes, trials - successes + 1, tail),
            successes == trials ? 1.0 : beta_quantile(successes + 1, trials - successes, 1 - tail)};
}

ResampledMean resampled_mean(std::span<const double> differences, double share, double confidence) {
    assert(differences.size() >= 2);
    const auto count = static_cast<double>(differences.size());
    ResampledMean result{.mean = mean_of(differences)};
    const double variance = squares_about(differences, result.mean) / (count - 1);
    result.variance = (1.0 / count + share) * variance;
    const double error = std::sqrt(result.variance);
    const double reach = student_quantile(count - 1, 0.5 + confidence / 2) * error;
    result.interval = {result.mean - reach, result.mean + reach};
    if (result.mean != 0.0)
        result.p_value = error > 0.0 ? student_p_value(count - 1, result.mean / error) : 0.0;
    return result;
}

}  // namespace jevrin::inline v1
