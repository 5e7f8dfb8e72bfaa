#include "jevrin/metrics/significance.hpp"

#include "jevrin/metrics/distributions.hpp"

#include <algorithm>
#include <numeric>

namespace jevrin::inline v1 {

double mcnemar_p_value(std::int64_t first_only, std::int64_t second_only) {
    const std::int64_t differing = first_only + second_only;
    if (differing == 0) return 1.0;
    return std::min(1.0, 2.0 * fair_binomial_cdf(differing, std::min(first_only, second_only)));
}

std::vector<double> holm_adjusted(std::span<const double> p_values) {
    std::vector<std::size_t> order(p_values.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return p_values[a] < p_values[b]; });
    std::vector<double> adjusted(p_values.size());
    double before = 0.0;
    for (std::size_t k = 0; k < order.size(); ++k) {
        const auto left = static_cast<double>(order.size() - k);
        before = std::min(1.0, std::max(before, left * p_values[order[k]]));
        adjusted[order[k]] = before;
    }
    return adjusted;
}

}  // namespace jevrin::inline v1
