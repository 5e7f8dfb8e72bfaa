#include "jevrin/training/loss.hpp"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin {

BatchLoss cross_entropy(std::int64_t classes, std::span<const float> logits,
                        std::span<const std::size_t> labels, std::span<float> gradient) {
    assert(logits.size() >= labels.size() * static_cast<std::size_t>(classes));
    BatchLoss result;
    const double share = 1.0 / static_cast<double>(labels.size());
    for (std::size_t n = 0; n < labels.size(); ++n) {
        const float* row = logits.data() + static_cast<std::int64_t>(n) * classes;
        const float* largest = std::max_element(row, row + classes);
        double sum = 0.0;
        for (std::int64_t c = 0; c < classes; ++c) sum += std::exp(static_cast<double>(row[c]) - *largest);
        const double log_sum = std::log(sum) + *largest;
        result.loss_sum += log_sum - row[labels[n]];
        if (static_cast<std::size_t>(largest - row) == labels[n]) ++result.correct;
        if (gradient.empty()) continue;
        float* out = gradient.data() + static_cast<std::int64_t>(n) * classes;
        for (std::int64_t c = 0; c < classes; ++c) {
            const double probability = std::exp(row[c] - log_sum);
            const double wanted = static_cast<std::size_t>(c) == labels[n] ? 1.0 : 0.0;
            out[c] = static_cast<float>((probability - wanted) * share);
        }
    }
    return result;
}

}  // namespace jevrin
