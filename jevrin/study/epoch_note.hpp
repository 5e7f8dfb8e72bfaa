// The record of the last epoch inside a checkpoint: when a process dies between checkpoint and transaction,
// the ledger is completed from it.
#pragma once

#include "jevrin/ledger/records.hpp"
#include "jevrin/training/layer_summary.hpp"

#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct EpochNote {
    RecordedEpoch epoch;
    bool best = false;
    std::vector<LayerSummary> layers;
    std::vector<std::string> warnings;
    std::vector<std::size_t> predicted;  // of the validation part's items, in their order
};

std::string to_text(const EpochNote& note);
// Nothing when the text is empty: no epoch is finished. InputError when it is invalid.
std::optional<EpochNote> note_from_text(const std::string& text);

}  // namespace jevrin::inline v1
