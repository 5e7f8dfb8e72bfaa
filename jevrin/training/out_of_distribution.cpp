#include "jevrin/training/out_of_distribution.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/random.hpp"

#include <Eigen/Core>
#include <boost/math/distributions/students_t.hpp>

#include <algorithm>
#include <bit>
#include <cassert>
#include <cmath>
#include <limits>

namespace jevrin::inline v1 {
namespace {

static_assert(std::endian::native == std::endian::little, "models hold little-endian numbers");

using Matrix = Eigen::Matrix<float, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
using Rows = Eigen::Map<const Matrix>;

constexpr Eigen::Index most_directions = 16;
constexpr double share_within = 0.98;
const char* const digits = "0123456789abcdef";

// Makes the columns orthonormal: modified Gram-Schmidt, twice over (Giraud, Langou & Rozloznik 2005).
void orthonormalise(Eigen::MatrixXf& columns) {
    for (int pass = 0; pass < 2; ++pass)
        for (Eigen::Index j = 0; j < columns.cols(); ++j) {
            for (Eigen::Index k = 0; k < j; ++k)
                columns.col(j) -= columns.col(k).dot(columns.col(j)) * columns.col(k);
            const float norm = columns.col(j).norm();
            if (norm > 0.0F) columns.col(j) /= norm;
        }
}

// The directions in which the rows vary most, by subspace iteration (Golub & Van Loan, 8.2) from random ones.
Matrix leading_directions(const Matrix& rows, Eigen::Index count) {
    constexpr int rounds = 12;
    Eigen::MatrixXf directions(rows.cols(), count);
    RandomStream random({.seed = 1, .purpose = Purpose::sample});
    for (Eigen::Index j = 0; j < count; ++j)
        for (Eigen::Index i = 0; i < rows.cols(); ++i) directions(i, j) = static_cast<float>(random.normal());
    for (int round = 0; round < rounds; ++round) {
        const Eigen::MatrixXf projections = rows * directions;
        directions.noalias() = rows.transpose() * projections;
        orthonormalise(directions);
    }
    return directions.transpose();
}

std::string to_hexadecimal(std::span<const float> values) {
    std::string text;
    text.reserve(values.size() * 8);
    for (const float value : values) {
        const auto bits = std::bit_cast<std::uint32_t>(value);
        for (int shift = 28; shift >= 0; shift -= 4) text += digits[(bits >> shift) & 0xFU];
    }
    return text;
}

std::vector<float> from_hexadecimal(const std::string& text) {
    std::vector<float> values;
    if (text.size() % 8 != 0) throw InputError("its out-of-distribution data are truncated");
    for (std::size_t i = 0; i < text.size(); i += 8) {
        std::uint32_t bits = 0;
        for (std::size_t k = i; k < i + 8; ++k) {
            const char* const digit = std::find(digits, digits + 16, text[k]);
            if (digit == digits + 16) throw InputError("its out-of-distribution data contain NaN");
            bits = (bits << 4U) | static_cast<std::uint32_t>(digit - digits);
        }
        values.push_back(std::bit_cast<float>(bits));
        if (!std::isfinite(values.back())) throw InputError("its out-of-distribution data contain NaN");
    }
    return values;
}

// The prediction limit of a normal sample of logarithms: mean + t s sqrt(1 + 1 / n). Of a single distance
// nothing is known of how they vary: ten times that.
double limit_of_few(const std::vector<double>& distances) {
    constexpr double unknown = 10.0;
    const auto n = static_cast<double>(distances.size());
    const double largest = distances.back();
    if (distances.size() < 2 || !(distances.front() > 0.0)) return unknown * largest;
    double mean = 0.0;
    for (const double distance : distances) mean += std::log(distance) / n;
    double squares = 0.0;
    for (const double distance : distances)
        squares += (std::log(distance) - mean) * (std::log(distance) - mean);
    const double t = boost::math::quantile(boost::math::students_t(n - 1), share_within);
    const double limit = std::exp(mean + t * std::sqrt(squares / (n - 1) * (1 + 1 / n)));
    return std::clamp(limit, largest, unknown * largest);
}

}  // namespace

double OutOfDistribution::distance(std::span<const float> features) const {
    assert(static_cast<std::int64_t>(features.size()) == width);
    const auto size = static_cast<std::size_t>(width);
    double nearest = std::numeric_limits<double>::infinity();
    std::vector<float> apart(size);
    for (std::size_t mean = 0; mean < means.size(); mean += size) {
        double squares = 0.0;
        for (std::size_t i = 0; i < size; ++i) {
            apart[i] = features[i] - means[mean + i];
            squares += static_cast<double>(apart[i]) * static_cast<double>(apart[i]);
        }
        double along = 0.0;
        for (std::size_t d = 0; d < variances.size(); ++d) {
            double projection = 0.0;
            for (std::size_t i = 0; i < size; ++i)
                projection += static_cast<double>(apart[i]) * static_cast<double>(directions[d * size + i]);
            squares -= projection * projection;
            along += projection * projection / static_cast<double>(variances[d]);
        }
        nearest = std::min(nearest, along + std::max(0.0, squares) / remaining_variance);
    }
    return std::sqrt(nearest / static_cast<double>(width));
}

std::string OutOfDistribution::to_text() const {
    const Json json = {{"width", width},
                       {"limit", limit},
                       {"remaining_variance", remaining_variance},
                       {"variances", to_hexadecimal(variances)},
                       {"directions", to_hexadecimal(directions)},
                       {"means", to_hexadecimal(means)}};
    return json_text(json);
}

OutOfDistribution OutOfDistribution::from_text(const std::string& text) {
    OutOfDistribution result;
    try {
        const auto json = parse_json(text);
        result.width = json.at("width").get<std::int64_t>();
        result.limit = json.at("limit").get<double>();
        result.remaining_variance = json.at("remaining_variance").get<double>();
        result.variances = from_hexadecimal(json.at("variances").get<std::string>());
        result.directions = from_hexadecimal(json.at("directions").get<std::string>());
        result.means = from_hexadecimal(json.at("means").get<std::string>());
    } catch (const JsonError&) {
        throw InputError("its out-of-distribution data are invalid");
    }
    const auto width = static_cast<std::size_t>(std::max<std::int64_t>(result.width, 0));
    const bool positive = std::all_of(result.variances.begin(), result.variances.end(),
                                      [](float variance) { return variance > 0.0F; });
    if (width == 0 || result.means.empty() || result.means.size() % width != 0 ||
        result.directions.size() != result.variances.size() * width || !positive ||
        !(result.remaining_variance > 0.0) || !std::isfinite(result.limit))
        throw InputError("its out-of-distribution data do not fit together");
    return result;
}

OutOfDistribution fit_out_of_distribution(std::span<const float> features,
                                          std::span<const std::size_t> labels, std::size_t classes) {
    assert(!labels.empty() && features.size() % labels.size() == 0);
    const auto items = static_cast<Eigen::Index>(labels.size());
    const Eigen::Index width = static_cast<Eigen::Index>(features.size()) / items;
    const Rows rows(features.data(), items, width);
    Eigen::MatrixXd sums = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(classes), width);
    std::vector<double> counts(classes, 0.0);
    for (Eigen::Index i = 0; i < items; ++i) {
        const std::size_t label = labels[static_cast<std::size_t>(i)];
        sums.row(static_cast<Eigen::Index>(label)) += rows.row(i).cast<double>();
        ++counts[label];
    }
    OutOfDistribution result;
    result.width = width;
    double present = 0.0;
    Matrix means(static_cast<Eigen::Index>(classes), width);
    for (std::size_t c = 0; c < classes; ++c) {
        if (counts[c] == 0.0) continue;
        const auto place = static_cast<Eigen::Index>(c);
        means.row(place) = (sums.row(place) / counts[c]).cast<float>();
        result.means.insert(result.means.end(), means.row(place).data(), means.row(place).data() + width);
        ++present;
    }
    Matrix apart(items, width);
    for (Eigen::Index i = 0; i < items; ++i)
        apart.row(i) =
            rows.row(i) - means.row(static_cast<Eigen::Index>(labels[static_cast<std::size_t>(i)]));
    const double freedom = std::max(1.0, static_cast<double>(items) - present);
    const double all_variance = apart.cast<double>().squaredNorm() / freedom;
    const Eigen::Index count = std::clamp<Eigen::Index>(
        std::min(width - 1, static_cast<Eigen::Index>(freedom / 4.0)), 0, most_directions);
    // Features that never vary would make every other value infinitely far.
    const double least = std::max(1e-12, 1e-4 * all_variance / static_cast<double>(width));
    double along = 0.0;
    if (count > 0) {
        const Matrix directions = leading_directions(apart, count);
        const Matrix projections = apart * directions.transpose();
        result.directions.assign(directions.data(), directions.data() + directions.size());
        for (Eigen::Index d = 0; d < count; ++d) {
            const double variance = projections.col(d).cast<double>().squaredNorm() / freedom;
            along += variance;
            result.variances.push_back(static_cast<float>(std::max(variance, least)));
        }
    }
    result.remaining_variance = std::max(least, (all_variance - along) / static_cast<double>(width - count));
    return result;
}

double out_of_distribution_limit(const OutOfDistribution& out_of_distribution,
                                 std::span<const float> features) {
    const auto width = static_cast<std::size_t>(out_of_distribution.width);
    std::vector<double> distances;
    for (std::size_t begin = 0; begin < features.size(); begin += width)
        distances.push_back(out_of_distribution.distance(features.subspan(begin, width)));
    assert(!distances.empty());
    std::sort(distances.begin(), distances.end());
    const auto items = static_cast<double>(distances.size());
    // Of so few even the largest is exceeded more often.
    if (items < 1.0 / (1.0 - share_within) - 1.0) return limit_of_few(distances);
    const auto place =
        static_cast<std::size_t>(std::ceil(share_within * static_cast<double>(distances.size() + 1)));
    return distances[std::min(place, distances.size()) - 1];
}

}  // namespace jevrin::inline v1
