#include "jevrin/study/certainty.hpp"

#include "jevrin/metrics/calibration.hpp"

#include <optional>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_items = 4096;
constexpr std::size_t widest = 4096;

std::vector<std::size_t> evenly_spread(const std::vector<std::size_t>& items) {
    const std::size_t step = (items.size() + most_items - 1) / most_items;
    std::vector<std::size_t> some;
    for (std::size_t i = 0; i < items.size(); i += step) some.push_back(items[i]);
    return some;
}

std::vector<std::size_t> labels_of(const TrainingData& data, const std::vector<std::size_t>& items) {
    std::vector<std::size_t> labels;
    for (const std::size_t item : items) labels.push_back(data.labels[item]);
    return labels;
}

std::optional<OutOfDistribution> out_of_distribution_of(const RunTrainer& trainer, const TrainingData& data) {
    const std::size_t width = trainer.features_with_best({data.parts.validation.front()}).size();
    if (width == 0 || width > widest) return std::nullopt;
    const std::vector<std::size_t> training = evenly_spread(data.parts.training);
    OutOfDistribution result = fit_out_of_distribution(trainer.features_with_best(training),
                                                       labels_of(data, training), data.classes);
    result.limit =
        out_of_distribution_limit(result, trainer.features_with_best(evenly_spread(data.parts.validation)));
    return result;
}

}  // namespace

void fit_certainty(Classifier& classifier, const RunTrainer& trainer, const TrainingData& data,
                   const Predictions& validation) {
    classifier.temperature = fit_temperature({.classes = data.classes,
                                              .labels = labels_of(data, validation.items),
                                              .probabilities = validation.probabilities});
    classifier.out_of_distribution = out_of_distribution_of(trainer, data);
}

}  // namespace jevrin::inline v1
