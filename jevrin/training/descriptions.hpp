// The settings of training, described: reading, writing, documents.
#pragma once

#include "jevrin/base/description.hpp"
#include "jevrin/training/training_settings.hpp"

namespace jevrin::inline v1 {

const Description<OptimiserSettings>& description_of(const OptimiserSettings&);
const Description<Schedule>& description_of(const Schedule&);
const Description<LossSettings>& description_of(const LossSettings&);
const Description<TrainingSettings>& description_of(const TrainingSettings&);

// Compiled once.
extern template class Description<OptimiserSettings>;
extern template class Description<Schedule>;
extern template class Description<LossSettings>;
extern template class Description<TrainingSettings>;

}  // namespace jevrin::inline v1
