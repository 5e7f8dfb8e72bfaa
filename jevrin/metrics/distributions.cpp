#include "jevrin/metrics/distributions.hpp"

#include <boost/math/distributions/beta.hpp>
#include <boost/math/distributions/binomial.hpp>
#include <boost/math/distributions/non_central_t.hpp>
#include <boost/math/distributions/normal.hpp>
#include <boost/math/distributions/students_t.hpp>
#include <boost/math/special_functions/digamma.hpp>
#include <boost/math/special_functions/trigamma.hpp>

#include <cmath>

namespace jevrin::inline v1 {
namespace {

// In double, not long double: a comparison of hundreds of candidates asks tens of thousands of times.
using Policy = boost::math::policies::policy<boost::math::policies::promote_double<false>>;
using Student = boost::math::students_t_distribution<double, Policy>;

}  // namespace

double student_quantile(double degrees_of_freedom, double probability) {
    return boost::math::quantile(Student(degrees_of_freedom), probability);
}

double student_p_value(double degrees_of_freedom, double t) {
    const Student student(degrees_of_freedom);
    return 2.0 * boost::math::cdf(boost::math::complement(student, std::abs(t)));
}

double student_upper_tail(double degrees_of_freedom, double t) {
    return boost::math::cdf(boost::math::complement(Student(degrees_of_freedom), t));
}

double noncentral_upper_tail(double degrees_of_freedom, double noncentrality, double t) {
    const boost::math::non_central_t shifted(degrees_of_freedom, noncentrality);
    return boost::math::cdf(boost::math::complement(shifted, t));
}

double digamma(double value) {
    return boost::math::digamma(value);
}

double trigamma(double value) {
    return boost::math::trigamma(value);
}

double trigamma_inverse(double value) {
    // trigamma falls from infinity to 0; by bisection of the logarithm.
    double low = -40.0;
    double high = 40.0;
    for (int step = 0; step < 80; ++step) {
        const double middle = (low + high) / 2;
        (trigamma(std::exp(middle)) > value ? low : high) = middle;
    }
    return std::exp((low + high) / 2);
}

double normal_cdf(double value) {
    return boost::math::cdf(boost::math::normal(), value);
}

double beta_quantile(std::int64_t a, std::int64_t b, double probability) {
    return boost::math::quantile(
        boost::math::beta_distribution<>(static_cast<double>(a), static_cast<double>(b)), probability);
}

double normal_quantile(double probability) {
    return boost::math::quantile(boost::math::normal(), probability);
}

double fair_binomial_cdf(std::int64_t tosses, std::int64_t heads) {
    const boost::math::binomial fair(static_cast<double>(tosses), 0.5);
    return boost::math::cdf(fair, static_cast<double>(heads));
}

}  // namespace jevrin::inline v1
