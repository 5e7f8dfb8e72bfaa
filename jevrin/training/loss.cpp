#include "jevrin/training/loss.hpp"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin {

BatchLoss cross_entropy(std::int64_t classes, std::span<const float> logits, std::span<const Target> targets,
                        std::span<float> gradient) {
    assert(logits.size() >= targets.size() * static_cast<std::size_t>(classes));
    BatchLoss result;
    const double part = 1.0 / static_cast<double>(targets.size());
    for (std::size_t n = 0; n < targets.size(); ++n) {
        const Target& target = targets[n];
        const float* row = logits.data() + static_cast<std::int64_t>(n) * classes;
        const float* largest = std::max_element(row, row + classes);
        double sum = 0.0;
        for (std::int64_t c = 0; c < classes; ++c) sum += std::exp(static_cast<double>(row[c]) - *largest);
        const double log_sum = std::log(sum) + *largest;
        result.loss_sum +=
            target.weight *
            (log_sum - (target.share * row[target.label] + (1.0 - target.share) * row[target.other]));
        if (static_cast<std::size_t>(largest - row) == target.label) ++result.correct;
        if (gradient.empty()) continue;
        float* out = gradient.data() + static_cast<std::int64_t>(n) * classes;
        for (std::int64_t c = 0; c < classes; ++c) {
            const double probability = std::exp(row[c] - log_sum);
            const auto place = static_cast<std::size_t>(c);
            const double wanted = (place == target.label ? target.share : 0.0) +
                                  (place == target.other ? 1.0 - target.share : 0.0);
            out[c] = static_cast<float>(target.weight * (probability - wanted) * part);
        }
    }
    return result;
}

std::vector<Target> plain_targets(std::span<const std::size_t> labels) {
    std::vector<Target> targets;
    for (const std::size_t label : labels) targets.push_back({.label = label, .other = label});
    return targets;
}

}  // namespace jevrin
