// What every command that looks at the predictions of one run needs.
#pragma once

#include "output.hpp"

#include "jevrin/evaluation/part_predictions.hpp"

namespace jevrin::app {

struct PredictionOptions {
    LedgerOptions ledger;
    std::string run;
    std::string part = "validation";
    std::int64_t epoch = 0;  // 0: the best
};
// RUN, --part, --epoch and those of the ledger.
void add_prediction_options(Command& command, PredictionOptions& options);

struct OpenPredictions {
    OpenStudy open;
    RunRecord run;
    Part part = Part::validation;
    PartPredictions predictions;

    const PredictionTable& table() const { return predictions.table; }
    const std::vector<std::string>& classes() const { return open.study.classes; }
    // "new head/1, validation part, epoch 7".
    std::string what() const;
    // run, part, epoch, items, test_looks: what JSON begins with.
    Json json() const;
    // The path of an item, without the hash behind it.
    std::string path(std::size_t item) const;
};
OpenPredictions open_predictions(const PredictionOptions& options);

// The class of this name; InputError names the nearest one.
std::size_t class_called(const std::vector<std::string>& classes, const std::string& name);

// The path in an item's id.
std::string path_of(const std::string& id);

}  // namespace jevrin::app
