#include "jevrin/metrics/calibration.hpp"

#include "jevrin/base/parallel.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace jevrin::inline v1 {
namespace {

constexpr double lowest_temperature = 0.2;
constexpr double highest_temperature = 10.0;
constexpr std::size_t fewest_items = 20;

// The logits of a row, up to a constant.
double logit(float probability) {
    return std::log(std::max(probability, std::numeric_limits<float>::min()));
}

// Of the mean cross-entropy by 1 / T.
struct Slope {
    double first = 0.0;
    double second = 0.0;
};

Slope slope_at(const PredictionTable& table, double power) {
    constexpr std::int64_t rows_at_a_time = 256;
    const auto rows = static_cast<std::int64_t>(table.items());
    const std::int64_t chunks = (rows + rows_at_a_time - 1) / rows_at_a_time;
    std::vector<Slope> by_chunk(static_cast<std::size_t>(chunks));
    parallel_for(chunks, [&](std::int64_t chunk) {
        const IndexRange range = chunk_range(rows, chunks, chunk);
        Slope sum;
        for (auto i = static_cast<std::size_t>(range.begin); i < static_cast<std::size_t>(range.end); ++i) {
            const auto row = table.row(i);
            const double top = logit(*std::max_element(row.begin(), row.end()));
            double weights = 0.0;
            double mean = 0.0;
            double square = 0.0;
            for (const float p : row) {
                const double z = logit(p);
                const double weight = std::exp(power * (z - top));
                weights += weight;
                mean += weight * z;
                square += weight * z * z;
            }
            mean /= weights;
            sum.first += mean - logit(row[table.labels[i]]);
            sum.second += square / weights - mean * mean;
        }
        by_chunk[static_cast<std::size_t>(chunk)] = sum;
    });
    Slope slope;
    for (const Slope& s : by_chunk) {
        slope.first += s.first;
        slope.second += s.second;
    }
    return slope;
}

}  // namespace

std::size_t reliability_bin(double confidence, std::size_t bins) {
    const auto count = static_cast<double>(bins);
    return static_cast<std::size_t>(std::clamp(std::ceil(confidence * count) - 1.0, 0.0, count - 1.0));
}

std::vector<ReliabilityBin> reliability(const PredictionTable& table, std::size_t bins) {
    std::vector<ReliabilityBin> result(bins);
    const auto count = static_cast<double>(bins);
    for (std::size_t b = 0; b < bins; ++b) {
        result[b].low = static_cast<double>(b) / count;
        result[b].high = static_cast<double>(b + 1) / count;
    }
    for (std::size_t i = 0; i < table.items(); ++i) {
        const std::size_t predicted = table.predicted(i);
        const double confidence = std::min(1.0, static_cast<double>(table.row(i)[predicted]));
        ReliabilityBin& bin = result[reliability_bin(confidence, bins)];
        ++bin.items;
        bin.correct += predicted == table.labels[i];
        bin.confidence += confidence;
    }
    for (ReliabilityBin& bin : result)
        if (bin.items > 0) bin.confidence /= static_cast<double>(bin.items);
    return result;
}

double debiased_calibration_error(std::span<const ReliabilityBin> bins) {
    double sum = 0.0;
    double items = 0.0;
    for (const ReliabilityBin& bin : bins) {
        if (bin.items == 0) continue;
        const auto n = static_cast<double>(bin.items);
        const double gap = std::abs(bin.accuracy() - bin.confidence);
        const double error = std::sqrt(std::max(0.0, bin.confidence * (1.0 - bin.confidence)) / n);
        // The mean of the absolute value of a normal variable (folded normal distribution).
        const double folded = error > 0.0 ? error * std::sqrt(2.0 / std::numbers::pi) *
                                                    std::exp(-0.5 * gap * gap / error / error) +
                                                gap * std::erf(gap / error / std::numbers::sqrt2)
                                          : gap;
        sum += n * (2.0 * gap - folded);
        items += n;
    }
    return items > 0.0 ? sum / items : 0.0;
}

double calibration_error(std::span<const ReliabilityBin> bins) {
    return std::max(0.0, debiased_calibration_error(bins));
}

double fit_temperature(const PredictionTable& table) {
    bool mistaken = false;
    for (std::size_t i = 0; i < table.items() && !mistaken; ++i)
        mistaken = table.predicted(i) != table.labels[i];
    if (table.items() < fewest_items || !mistaken) return 1.0;
    // The loss is convex in 1 / T: Newton's steps, kept within the bracket of its slope's sign.
    double low = 1.0 / highest_temperature;
    double high = 1.0 / lowest_temperature;
    double power = 1.0;
    constexpr int most_steps = 60;
    for (int step = 0; step < most_steps && high - low > 1e-9; ++step) {
        const Slope slope = slope_at(table, power);
        (slope.first > 0.0 ? high : low) = power;
        const double newton = power - slope.first / slope.second;
        const double next = newton > low && newton < high ? newton : (low + high) / 2;
        if (std::abs(next - power) < 1e-9) break;
        power = next;
    }
    return 1.0 / power;
}

PredictionTable with_temperature(const PredictionTable& table, double temperature) {
    PredictionTable result = table;
    for (std::size_t i = 0; i < table.items(); ++i) {
        const auto row = table.row(i);
        const double top = logit(*std::max_element(row.begin(), row.end()));
        double sum = 0.0;
        for (const float p : row) sum += std::exp((logit(p) - top) / temperature);
        for (std::size_t c = 0; c < table.classes; ++c)
            result.probabilities[i * table.classes + c] =
                static_cast<float>(std::exp((logit(row[c]) - top) / temperature) / sum);
    }
    return result;
}

}  // namespace jevrin::inline v1
