// Items whose labels are probably wrong, according to models that were not trained on them.
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/metrics/label_suspicion.hpp"

#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct SuspectReport {
    std::string source;           // where the probabilities come from, as text
    PartPredictions predictions;  // of every item that was judged
    std::vector<SuspectLabel> suspects;
};

// Judges the training and validation items by the features of a frozen run, out of fold
// (out_of_fold_predictions()). The test part stays sealed. InputError when the run is not frozen or not
// finished.
SuspectReport suspects_by_features(const Ledger& ledger, const StudyRecord& study, const RunRecord& run,
                                   const PredictionProgress& progress = {});

// Judges the items that the runs had for validation, by the mean of what they predicted there: with folds,
// every item that is not in the test part. InputError when a run is not finished.
SuspectReport suspects_by_predictions(const Ledger& ledger, const StudyRecord& study,
                                      const std::vector<RunRecord>& runs);

// What judges labels: by features of the best frozen run of those named on training and validation items, or,
// when there is none or only what was recorded may count, by what the finished runs predicted on the
// validation part.
enum class SuspectSource { features, recorded };
const EnumNames<SuspectSource>& names_of(SuspectSource);
SuspectReport find_suspects(const Ledger& ledger, const StudyRecord& study,
                            const std::vector<std::string>& names,
                            SuspectSource source = SuspectSource::features,
                            const PredictionProgress& progress = {});

}  // namespace jevrin::inline v1
