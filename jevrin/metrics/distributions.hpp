// Quantiles and tail probabilities of the distributions that intervals and tests use.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

// The value below which Student's t with these degrees of freedom lies with this probability.
double student_quantile(double degrees_of_freedom, double probability);

// Two-sided p-value of Student's t.
double student_p_value(double degrees_of_freedom, double t);

double normal_quantile(double probability);

// The probability of at most so many heads in so many tosses of a fair coin.
double fair_binomial_cdf(std::int64_t tosses, std::int64_t heads);

}  // namespace jevrin::inline v1
