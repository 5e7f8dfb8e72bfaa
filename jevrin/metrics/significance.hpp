// Exact and corrected tests.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// The exact test of McNemar (1947): of the items on which two candidates differ, so many are correct for the
// first only and so many for the second only. Two-sided p-value from the binomial distribution with even
// chances: twice the smaller tail, at most 1; 1 when they differ nowhere.
double mcnemar_p_value(std::int64_t first_only, std::int64_t second_only);

// p-values corrected for their number (Holm 1979): the k-th smallest of m times (m - k + 1), at least as
// large as the one before, at most 1. In the order given.
std::vector<double> holm_adjusted(std::span<const double> p_values);

}  // namespace jevrin::inline v1
