// The predictions of one run for a part, from which most results of one run are computed.
#pragma once

#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/results/form.hpp"

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct PredictionQuery {
    std::string run;  // "new head/1"
    Part part = Part::validation;
    std::optional<std::int64_t> epoch = std::nullopt;  // whose model was kept; otherwise the best
};

struct RunPredictions {
    StudyContext context;  // with this look at the test part counted
    RunRecord run;
    Part part = Part::validation;
    PartPredictions predictions;
    std::string source;  // a file of predictions made elsewhere; empty: the run's own

    const PredictionTable& table() const { return predictions.table; }
    const std::vector<std::string>& classes() const { return context.study.classes; }
    // "new head/1, validation part, epoch 7".
    std::string what() const;
    // The path of an item, without the hash behind it.
    std::string path(std::size_t item) const { return path_of_item(predictions.items[item]); }
};

// predict_part() for a run by its name.
RunPredictions open_predictions(const Ledger& ledger, const StudyRecord& study, const PredictionQuery& query,
                                const PredictionProgress& progress = {});
// The same with the predictions that a file holds for the same items instead: read_predictions().
RunPredictions open_predictions_from(const std::filesystem::path& file, const Ledger& ledger,
                                     const StudyRecord& study, const PredictionQuery& query,
                                     const PredictionProgress& progress = {});

// The class of this name; InputError names the nearest one.
std::size_t class_called(const std::vector<std::string>& classes, const std::string& name);

}  // namespace jevrin::inline v1
