#include "jevrin/metrics/distributions.hpp"

#include <boost/math/distributions/binomial.hpp>
#include <boost/math/distributions/normal.hpp>
#include <boost/math/distributions/students_t.hpp>

#include <cmath>

namespace jevrin::inline v1 {

double student_quantile(double degrees_of_freedom, double probability) {
    return boost::math::quantile(boost::math::students_t(degrees_of_freedom), probability);
}

double student_p_value(double degrees_of_freedom, double t) {
    const boost::math::students_t student(degrees_of_freedom);
    return 2.0 * boost::math::cdf(boost::math::complement(student, std::abs(t)));
}

double normal_quantile(double probability) {
    return boost::math::quantile(boost::math::normal(), probability);
}

double fair_binomial_cdf(std::int64_t tosses, std::int64_t heads) {
    const boost::math::binomial fair(static_cast<double>(tosses), 0.5);
    return boost::math::cdf(fair, static_cast<double>(heads));
}

}  // namespace jevrin::inline v1
