// Quantiles and tail probabilities of the distributions that intervals and tests use.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

// The value below which Student's t with these degrees of freedom lies with this probability.
double student_quantile(double degrees_of_freedom, double probability);

// Two-sided p-value of Student's t.
double student_p_value(double degrees_of_freedom, double t);

// P(T > t) of Student's t.
double student_upper_tail(double degrees_of_freedom, double t);

// P(T > t) of noncentral t: the power of a one-sided t-test.
double noncentral_upper_tail(double degrees_of_freedom, double noncentrality, double t);

// The first and second derivative of the logarithm of the gamma function, and the inverse of the second;
// of values above 0.
double digamma(double value);
double trigamma(double value);
double trigamma_inverse(double value);

double normal_quantile(double probability);
double normal_cdf(double value);

// Of the beta distribution.
double beta_quantile(std::int64_t a, std::int64_t b, double probability);

// The probability of at most so many heads in so many tosses of a fair coin.
double fair_binomial_cdf(std::int64_t tosses, std::int64_t heads);

}  // namespace jevrin::inline v1
