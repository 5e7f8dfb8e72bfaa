#include "jevrin/training/loss.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

// The wanted probability of a class: its fraction of the labels, smoothed.
double wanted(const Target& target, std::size_t place, std::int64_t classes, double smoothing) {
    const double share =
        (place == target.label ? target.share : 0.0) + (place == target.other ? 1.0 - target.share : 0.0);
    return (1.0 - smoothing) * share + smoothing / static_cast<double>(classes);
}

// -(1 - p)^gamma log p.
double focal(double probability, double log_probability, double gamma) {
    return -std::pow(1.0 - probability, gamma) * log_probability;
}

// p times the derivative of focal() with respect to p.
double focal_slope(double probability, double log_probability, double gamma) {
    if (gamma == 0.0) return -1.0;  // also where the probability is 1 after rounding
    const double rest = 1.0 - probability;
    if (rest <= 0.0) return 0.0;
    return gamma * probability * std::pow(rest, gamma - 1.0) * log_probability - std::pow(rest, gamma);
}

}  // namespace

BatchLoss cross_entropy(std::int64_t classes, std::span<const float> logits, std::span<const Target> targets,
                        std::span<float> gradient, const LossSettings& settings,
                        std::span<std::size_t> predicted, std::int64_t items) {
    assert(logits.size() >= targets.size() * static_cast<std::size_t>(classes));
    BatchLoss result;
    const double part = 1.0 / static_cast<double>(items > 0 ? items : std::ssize(targets));
    const double smoothing = settings.label_smoothing;
    for (std::size_t n = 0; n < targets.size(); ++n) {
        const Target& target = targets[n];
        const float* row = logits.data() + static_cast<std::int64_t>(n) * classes;
        const float* largest = std::max_element(row, row + classes);
        double sum = 0.0;
        for (std::int64_t c = 0; c < classes; ++c) sum += std::exp(static_cast<double>(row[c]) - *largest);
        const double log_sum = std::log(sum) + *largest;
        const double loss =
            log_sum - (target.share * row[target.label] + (1.0 - target.share) * row[target.other]);
        result.loss_sum += loss;
        const auto found = static_cast<std::size_t>(largest - row);
        if (found == target.label) ++result.correct;
        if (!predicted.empty()) predicted[n] = found;
        double weight = target.weight;
        if (!settings.class_weights.empty())
            weight *= target.share * settings.class_weights[target.label] +
                      (1.0 - target.share) * settings.class_weights[target.other];
        const bool plain = smoothing == 0.0 && settings.focal_gamma == 0.0;
        double objective = plain ? loss : 0.0;
        double slopes = plain ? -1.0 : 0.0;
        for (std::int64_t c = 0; c < classes && !plain; ++c) {
            const double log_probability = row[c] - log_sum;
            const double probability = std::exp(log_probability);
            const double share = wanted(target, static_cast<std::size_t>(c), classes, smoothing);
            objective += share * focal(probability, log_probability, settings.focal_gamma);
            slopes += share * focal_slope(probability, log_probability, settings.focal_gamma);
        }
        result.objective_sum += weight * objective;
        if (gradient.empty()) continue;
        float* out = gradient.data() + static_cast<std::int64_t>(n) * classes;
        for (std::int64_t c = 0; c < classes; ++c) {
            const double probability = std::exp(row[c] - log_sum);
            const double share = wanted(target, static_cast<std::size_t>(c), classes, smoothing);
            const double own = focal_slope(probability, row[c] - log_sum, settings.focal_gamma);
            out[c] = static_cast<float>(weight * (share * own - probability * slopes) * part);
        }
    }
    return result;
}

std::vector<Target> plain_targets(std::span<const std::size_t> labels) {
    std::vector<Target> targets;
    for (const std::size_t label : labels) targets.push_back({.label = label, .other = label});
    return targets;
}

std::vector<double> settle_class_weights(const LossSettings& settings,
                                         std::span<const std::string> class_names,
                                         std::span<const std::size_t> labels) {
    if (settings.balanced_classes) return balanced_weights(labels, class_names.size());
    if (settings.named_weights.empty()) return settings.class_weights;
    std::vector<double> weights(class_names.size(), 1.0);
    for (const auto& [name, weight] : settings.named_weights) {
        const auto place = std::find(class_names.begin(), class_names.end(), name);
        if (place == class_names.end())
            throw InputError(fmt::format("'class_weights' names the class '{}'{}; the classes are {}",
                                         printable(name), did_you_mean(name, class_names),
                                         printable(fmt::format("{}", fmt::join(class_names, ", ")))));
        weights[static_cast<std::size_t>(place - class_names.begin())] = weight;
    }
    return weights;
}

std::vector<double> balanced_weights(std::span<const std::size_t> labels, std::size_t classes) {
    std::vector<double> weights(classes, 0.0);
    for (const std::size_t label : labels) weights[label] += 1.0;
    for (double& weight : weights)
        if (weight > 0.0)
            weight = static_cast<double>(labels.size()) / (static_cast<double>(classes) * weight);
    return weights;
}

}  // namespace jevrin::inline v1
