// The model file that comes with a run from elsewhere, made one of ours.
#pragma once

#include "jevrin/external/run_statement.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/training/classifier.hpp"

#include <filesystem>
#include <string>

namespace jevrin::inline v1 {

// An ONNX file of this run, which has predictions. One that carries classes and preparation (docs/formats.md,
// "Model") needs nothing beside it; of any other the run states its preparation, and a softmax at its end is
// left out.
//
// It is held against the predictions: up to 256 validation images, prepared as stated, are classified with
// it. Numbers may differ a little, since images are decoded and resized here; where more than 5 % of the
// images get another class, it is refused. InputError says so, or that the file is no model, takes other
// images, gives other classes, or that the images are gone.
Classifier read_external_model(const std::filesystem::path& file, const Ledger& ledger, const RunRecord& run,
                               const RunStatement& statement);

// Such a model in its place in the ledger, before the ledger knows of it (LedgerWriter::put_model()).
struct StoredModel {
    std::string hash;
    PredictionCost cost;  // measured, unless the run states it
};
StoredModel store_external_model(const std::filesystem::path& file, const Ledger& ledger,
                                 const RunRecord& run);

}  // namespace jevrin::inline v1
