// The columns of each recorded thing, in one list each: what is selected, inserted, merged and kept in
// checkpoints follows from it.
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
    const char* name;
    std::variant<std::int64_t EpochRecord::*, double EpochRecord::*, double PartScores::*> member;
};
inline constexpr EpochColumn epoch_columns[] = {
    {"epoch", &EpochRecord::epoch},
    {"step", &EpochRecord::step},
    {"training_loss", &EpochRecord::training_loss},
    {"objective", &EpochRecord::objective},
    {"training_accuracy", &EpochRecord::training_accuracy},
    {"training_balanced_accuracy", &EpochRecord::training_balanced_accuracy},
    {"training_macro_f1", &EpochRecord::training_macro_f1},
    {"validation_loss", &EpochRecord::validation_loss},
    {"learning_rate", &EpochRecord::learning_rate},
    {"seconds", &EpochRecord::seconds},
    {"data_seconds", &EpochRecord::data_seconds},
    {"compute_seconds", &EpochRecord::compute_seconds},
    {"validation_seconds", &EpochRecord::validation_seconds},
    {"memory_bytes", &EpochRecord::memory_bytes},
    {"accuracy", &PartScores::accuracy},
    {"balanced_accuracy", &PartScores::balanced_accuracy},
    {"macro_f1", &PartScores::macro_f1},
};
// Calls visit(number) with the member of an epoch, const or not, that a column holds.
template <typename Epoch, typename Visit>
void visit_column(const EpochColumn& column, Epoch& epoch, Visit visit) {
    if (const auto* member = std::get_if<std::int64_t EpochRecord::*>(&column.member))
        visit(epoch.**member);
    else if (const auto* number = std::get_if<double EpochRecord::*>(&column.member))
        visit(epoch.**number);
    else
        visit(epoch.validation_scores.*std::get<double PartScores::*>(column.member));
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
    {"update_ratio", &LayerSummary::update_ratio},   {"dead_share", &LayerSummary::dead_share, true},
    {"learning_rate", &LayerSummary::learning_rate},
};

// The columns of `runs` beside id, study, division and superseded: what a merge copies.
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
