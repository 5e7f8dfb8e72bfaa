// Calibration of a finished run's model: temperature and out-of-distribution score.
#pragma once

#include "jevrin/training/classifier.hpp"
#include "jevrin/training/run_trainer.hpp"

namespace jevrin::inline v1 {

// Gives the classifier its temperature, from what the best weights predicted on the validation part, and its
// out-of-distribution score: fitted on training items, its limit on those of validation, at most 4,096 of
// each. Networks without a vector of at most 4,096 features before their head have no such score.
void fit_certainty(Classifier& classifier, const RunTrainer& trainer, const TrainingData& data,
                   const Predictions& validation);

}  // namespace jevrin::inline v1
