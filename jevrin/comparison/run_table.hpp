// Runs as rows of named values, to be filtered, sorted and grouped by any setting or score.
//
//     std::vector<RunRow> rows = run_rows(ledger, runs);
//     keep_where(rows, {"regime=frozen", "learning_rate<0.05"});
//     sort_by(rows, "-balanced_accuracy");
//     for (const std::string& key : differing_settings(rows)) ... rows[0].values.at(key) ...
//
// Keys are run, candidate, origin, regime, seed, fold, state, epochs, best_epoch, accuracy,
// balanced_accuracy, macro_f1, loss, seconds, parameters, trainable_parameters, multiplications,
// image_set_version, tags, note, and every setting by its path ("training.optimiser.learning_rate"). The end
// of a path will do where it is the only one ("learning_rate").
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <map>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// What a run has under a key.
struct RunValue {
    std::string text;                        // for a cell of a table; empty: nothing is there
    std::string json = "null";               // the same as JSON
    std::optional<double> number = {};       // when it is one
    std::vector<std::string> elements = {};  // when it is a list: the text of each

    bool is_there() const { return json != "null"; }
    // Numbers by their value, others by their JSON.
    bool operator==(const RunValue& other) const {
        return number && other.number ? *number == *other.number : json == other.json;
    }
};

struct RunRow {
    RunRecord run;
    std::map<std::string, RunValue> values;

    // Nothing when the run lacks the key.
    const RunValue& value(const std::string& key) const;
};
// A row for each run, in their order.
std::vector<RunRow> run_rows(const Ledger& ledger, const std::vector<RunRecord>& runs);

// The key that a word means. InputError names the nearest one, or those it may mean.
std::string key_called(const std::vector<RunRow>& rows, const std::string& word);

// Keeps rows for which every condition holds: KEY=VALUE, !=, <, <=, >, >=, or KEY~TEXT (contains). Numbers
// are compared as numbers; a row that lacks the key holds for != alone; tags=x asks whether x is among them.
// InputError for what is no condition.
void keep_where(std::vector<RunRow>& rows, const std::vector<std::string>& conditions);

// Stable; "-KEY" from the largest down. Rows without the key come last.
void sort_by(std::vector<RunRow>& rows, const std::string& key);

// The paths of settings that are not the same in all rows; seeds, folds and what follows from the image set
// are no such settings.
std::vector<std::string> differing_settings(const std::vector<RunRow>& rows);

// Rows that share a value of a key, in order of first appearance.
struct RunGroup {
    std::string value;
    std::int64_t runs = 0;
    std::int64_t finished = 0;
    std::optional<double> mean;  // of the metric at the best epochs of its finished runs
    double lowest = 0.0;
    double highest = 0.0;
    double seconds = 0.0;  // all together
};
std::vector<RunGroup> group_by(const std::vector<RunRow>& rows, const std::string& key, Metric metric);

}  // namespace jevrin::inline v1
