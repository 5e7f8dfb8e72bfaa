// Calibration of probabilities.
#pragma once

#include "jevrin/metrics/predictions.hpp"

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// Items whose confidence (the highest probability) lies in (low, high].
struct ReliabilityBin {
    double low = 0.0;
    double high = 0.0;
    std::int64_t items = 0;
    std::int64_t correct = 0;
    double confidence = 0.0;  // their mean; 0 without items

    double accuracy() const {
        return items == 0 ? 0.0 : static_cast<double>(correct) / static_cast<double>(items);
    }
};

inline constexpr std::size_t usual_reliability_bins = 10;

// The place of a confidence among bins of equal width from 0 to 1.
std::size_t reliability_bin(double confidence, std::size_t bins);

// One bin for each of so many equal widths of the confidence, which is the probability of the predicted
// class; an item at a border counts below it.
std::vector<ReliabilityBin> reliability(const PredictionTable& table,
                                        std::size_t bins = usual_reliability_bins);

// The expected calibration error: the mean over items of |accuracy - confidence| of their bin (Naeini 2015;
// Guo 2017), less what chance adds to it. The gap g of a bin with n items of confidence p is known with the
// variance p (1 - p) / n, so its size is expected to be that of a normal value about the true gap, which is
// larger (Broecker 2012, Kumar 2019). Below 0 by chance when there is none.
double debiased_calibration_error(std::span<const ReliabilityBin> bins);
// The same, at least 0.
double calibration_error(std::span<const ReliabilityBin> bins);

// The temperature T that minimises the mean cross-entropy of softmax(logits / T) (Guo 2017), from 0.2 to 10;
// probabilities serve as well as logits, of which they are a form. 1 when the items cannot tell: fewer than
// 20 of them, or no mistake among them.
double fit_temperature(const PredictionTable& table);

// The probabilities as they are at this temperature: each is taken to the power 1 / T, and rows sum to 1
// again.
PredictionTable with_temperature(const PredictionTable& table, double temperature);

}  // namespace jevrin::inline v1
