// One list of columns for each recorded table; selects, inserts, merges and checkpoints follow from it.
#pragma once

#include "jevrin/ledger/records.hpp"
#include "jevrin/training/layer_summary.hpp"

#include <cstdint>
#include <string>
#include <variant>
#include <vector>

namespace jevrin::inline v1 {

// Numbers of an epoch: columns of `epochs` beside run, keys of checkpoints.
struct EpochColumn {
    struct Score {
        MetricScores EpochRecord::*part;
        Metric metric;
    };
    std::string name;
    std::variant<std::int64_t EpochRecord::*, double EpochRecord::*, Score> member;
};
// "accuracy" and "training_accuracy" for each metric among them.
const std::vector<EpochColumn>& epoch_columns();
// Calls visit(number) with the member of an epoch, const or not, that a column holds.
template <typename Epoch, typename Visit>
void visit_column(const EpochColumn& column, Epoch& epoch, Visit visit) {
    if (const auto* member = std::get_if<std::int64_t EpochRecord::*>(&column.member)) {
        visit(epoch.**member);
    } else if (const auto* number = std::get_if<double EpochRecord::*>(&column.member)) {
        visit(epoch.**number);
    } else {
        const auto& score = std::get<EpochColumn::Score>(column.member);
        visit((epoch.*score.part).values[static_cast<std::size_t>(score.metric)]);
    }
}

// Numbers of a layer in an epoch: columns of `layer_epochs` beside run, epoch and layer. A dead share that
// does not apply is NULL, and -1 in the record.
struct LayerColumn {
    const char* name;
    double LayerSummary::*member;
    bool nullable = false;
};
inline constexpr LayerColumn layer_columns[] = {
    {"weight_norm", &LayerSummary::weight_norm},     {"gradient_norm", &LayerSummary::gradient_norm},
    {"update_ratio", &LayerSummary::update_ratio},   {"dead_fraction", &LayerSummary::dead_fraction, true},
    {"learning_rate", &LayerSummary::learning_rate},
};

// The columns of `runs` beside id, study, split and superseded: what a merge copies.
inline constexpr const char* run_columns[] = {"candidate",
                                              "origin",
                                              "varied",
                                              "regime",
                                              "seed",
                                              "fold",
                                              "settings",
                                              "identity",
                                              "batch",
                                              "training_fraction",
                                              "state",
                                              "reason",
                                              "best_epoch",
                                              "parameters",
                                              "planned_epochs",
                                              "trainable_parameters",
                                              "multiplications",
                                              "jevrin_version",
                                              "added",
                                              "finished",
                                              "plan",
                                              "environment",
                                              "archived",
                                              "note"};

// "a, b, c"; with a prefix before each name.
template <typename Columns>
std::string column_names(const Columns& columns, const std::string& prefix = "") {
    std::string text;
    for (const auto& column : columns) {
        if (!text.empty()) text += ", ";
        if constexpr (requires { column.name; })
            text += prefix + column.name;
        else
            text += prefix + column;
    }
    return text;
}
// "?, ?, ?" for so many values.
inline std::string placeholders(std::size_t count) {
    std::string text;
    for (std::size_t i = 0; i < count; ++i) text += i == 0 ? "?" : ", ?";
    return text;
}

}  // namespace jevrin::inline v1
