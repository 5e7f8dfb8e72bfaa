// The predictions of a run for a part: recorded ones, or computed by its model.
#pragma once

#include "jevrin/ledger/ledger.hpp"
#include "jevrin/metrics/predictions.hpp"
#include "jevrin/training/classifier.hpp"

#include <cstdint>
#include <filesystem>
#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct PartPredictions {
    std::vector<std::string> items;  // ids
    PredictionTable table;           // a row for each
    std::int64_t epoch = 0;          // of the weights

    ConfusionMatrix matrix() const { return {table.classes, table.labels, table.predicted()}; }
};

using PredictionProgress = std::function<void(std::int64_t done, std::int64_t total)>;

// Of a run's best weights, or of an epoch that was kept. The ledger has those of a finished run's best
// weights on its validation part; all others are computed from the images, which are read from where the
// study found them. Part::test opens the sealed part: the ledger records that it was looked at, when, and
// with which run. Probabilities are those of training, before any temperature. InputError when the run is not
// finished or the epoch was not kept, the part is empty, images changed or are gone, or what is recorded is
// out of step with the items.
PartPredictions predict_part(const std::filesystem::path& ledger, const std::string& study,
                             const std::string& run, Part part,
                             std::optional<std::int64_t> epoch = std::nullopt,
                             const PredictionProgress& progress = {});

// The same with a ledger that is open.
PartPredictions predict_part(const Ledger& ledger, const StudyRecord& study, const RunRecord& run, Part part,
                             std::optional<std::int64_t> epoch = std::nullopt,
                             const PredictionProgress& progress = {});

// Of a finished run's best weights, for any items, computed from their images.
PartPredictions predict_items(const std::filesystem::path& ledger, const std::string& study,
                              const std::string& run, const std::vector<ItemRecord>& items);

// The file of the model of a finished run's best epoch, or of an epoch that was kept. InputError when the run
// is not finished, or the epoch was not kept.
std::filesystem::path model_of(const Ledger& ledger, const RunRecord& run,
                               std::optional<std::int64_t> epoch = std::nullopt);

// That model, when it is the one that the ledger recorded. InputError when it is missing, damaged or of
// another run.
Classifier load_model(const Ledger& ledger, const RunRecord& run,
                      std::optional<std::int64_t> epoch = std::nullopt);

// What that model divides its logits by; nothing when its file is gone.
std::optional<double> temperature_of(const Ledger& ledger, const RunRecord& run, std::int64_t epoch);

// The items of a study where its image set lay, to be read again.
ImageSet items_of(const StudyRecord& study, const std::vector<ItemRecord>& records);

// A table of predictions as text, CSV: item, label, predicted, and the probability of each class under its
// name.
std::string to_csv(const PartPredictions& predictions, const std::vector<std::string>& classes);

// Predictions made elsewhere for the items of a part: a CSV with the columns item (id or path) and one for
// each class under its name; others are passed over. InputError when items are missing, doubled or unknown,
// with counts, a class has no column, or a row is no distribution.
PartPredictions read_predictions(const std::filesystem::path& file, const std::vector<ItemRecord>& items,
                                 const std::vector<std::string>& classes);

}  // namespace jevrin::inline v1
