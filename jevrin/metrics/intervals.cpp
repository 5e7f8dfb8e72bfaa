#include "jevrin/metrics/intervals.hpp"

#include "jevrin/metrics/moments.hpp"

#include <boost/math/distributions/normal.hpp>
#include <boost/math/distributions/students_t.hpp>

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

double t_quantile(double degrees_of_freedom, double confidence) {
    const boost::math::students_t distribution(degrees_of_freedom);
    return boost::math::quantile(distribution, 0.5 + confidence / 2);
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

ResampledMean resampled_mean(std::span<const double> differences, double share, double confidence) {
    assert(differences.size() >= 2);
    const auto count = static_cast<double>(differences.size());
    ResampledMean result{.mean = mean_of(differences)};
    const double variance = squares_about(differences, result.mean) / (count - 1);
    const double error = std::sqrt((1.0 / count + share) * variance);
    const double reach = t_quantile(count - 1, confidence) * error;
    result.interval = {result.mean - reach, result.mean + reach};
    const boost::math::students_t student(count - 1);
    if (result.mean != 0.0)
        result.p_value =
            error > 0.0
                ? 2.0 * boost::math::cdf(boost::math::complement(student, std::abs(result.mean) / error))
                : 0.0;
    return result;
}

}  // namespace jevrin::inline v1
