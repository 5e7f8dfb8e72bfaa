// What a finished run's model says about its own certainty.
#pragma once

#include "jevrin/training/classifier.hpp"
#include "jevrin/training/run_trainer.hpp"

namespace jevrin::inline v1 {

// Gives the classifier its temperature, from what the best weights predicted on the validation part, and its
// familiarity: fitted on training items, its limit on those of validation, at most 4,096 of each. Without
// familiarity stay networks that have no vector of at most 4,096 features before their head.
void fit_certainty(Classifier& classifier, const RunTrainer& trainer, const TrainingData& data,
                   const Predictions& validation);

}  // namespace jevrin::inline v1
