// What a program that trains elsewhere states of a run: JSON, in files or over HTTP. docs/formats.md has the
// form, "Runs from elsewhere"; server/api/external-run.schema.json is its JSON Schema.
//
//     RunStatement run = read_run_statement(read_json(text, "run.json"), "run.json");
//     EpochStatement epoch = read_epoch_statement(read_json(line, place), rows, place);
//
// Functions throw InputError with the place, the key and the cure.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/external/validation_rows.hpp"
#include "jevrin/images/preparation.hpp"
#include "jevrin/plan/regime.hpp"
#include "jevrin/training/prediction_cost.hpp"

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct RunStatement {
    std::string study;  // its name; empty: the one trained last
    std::string split;  // the hash that the list of parts gives: which items were which part
    std::string candidate;
    Regime regime = Regime::scratch;
    std::int64_t seed = 1;
    std::int64_t fold = 0;
    std::string settings = "{}";  // JSON, an object: whatever distinguishes the candidate
    std::string program = {};
    std::string hardware = {};
    std::int64_t planned_epochs = 0;  // 0: not stated, as are the next
    std::int64_t batch = 0;           // items of one step
    double training_fraction = 1.0;   // of the training part
    std::int64_t parameters = 0;
    std::int64_t trainable_parameters = 0;
    std::int64_t multiplications = 0;  // forward, for one image
    std::optional<PredictionCost> prediction_cost = {};
    std::vector<std::string> items =
        {};  // the order of rows: ids or paths; empty: as the list of parts has them
    std::vector<std::string> classes = {};  // the order of columns; empty: that of the study

    // Of images before its network sees them; for a model file that does not say it itself.
    std::optional<Preparation> preparation = {};

    std::string name() const;  // "candidate/seed", with folds "candidate/seed/fold"
};
RunStatement read_run_statement(const Json& json, const std::string& place);
// The same statement, however it was written, is the same text.
std::string to_text(const RunStatement& statement);

struct EpochStatement {
    // Numbers that were not stated are NaN. Scores of the validation part are what is claimed, unless there
    // are counts.
    RecordedEpoch epoch;
    std::vector<std::size_t> predicted = {};     // the class of each row; empty: not stated
    std::map<std::string, double> numbers = {};  // anything else
    std::string content = {};  // a hash: the same statement, however it was written, has the same
};
// Claimed scores are rounded; counts are not.
inline constexpr double rounding_of_claims = 0.002;
bool same_counts(const ConfusionMatrix& a, const ConfusionMatrix& b);

// As JSON that read_epoch_statement() reads with the study's order of classes.
std::string to_text(const EpochStatement& statement);
EpochStatement read_epoch_statement(const Json& json, const ValidationRows& rows, const std::string& place);

}  // namespace jevrin::inline v1
