// Predictions of the validation part by epoch, as the database keeps them.
#pragma once

#include "jevrin/ledger/connection.hpp"
#include "jevrin/ledger/ids.hpp"
#include "jevrin/ledger/records.hpp"

#include <cstddef>
#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

// Inside a transaction. WorkError when an item is not in the run's validation part.
void put_epoch_predictions(LedgerConnection& connection, RunId run, std::int64_t epoch, std::size_t classes,
                           const std::vector<ItemPrediction>& predictions);

}  // namespace jevrin::inline v1
