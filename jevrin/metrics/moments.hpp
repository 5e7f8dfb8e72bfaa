// The mean of values and the sum of their squared distances, added in the order of the values.
#pragma once

#include <span>

namespace jevrin::inline v1 {

// values: [n], n >= 1.
inline double mean_of(std::span<const double> values) {
    double sum = 0.0;
    for (const double v : values) sum += v;
    return sum / static_cast<double>(values.size());
}

inline double squares_about(std::span<const double> values, double centre) {
    double sum = 0.0;
    for (const double v : values) sum += (v - centre) * (v - centre);
    return sum;
}

}  // namespace jevrin::inline v1
