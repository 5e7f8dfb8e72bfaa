// Confusion matrices as the database keeps them: their nonzero cells.
#pragma once

#include "jevrin/ledger/connection.hpp"
#include "jevrin/ledger/ids.hpp"
#include "jevrin/metrics/confusion_matrix.hpp"

#include <cstdint>

namespace jevrin::inline v1 {

// Inside a transaction.
void insert_matrix(LedgerConnection& connection, RunId run, std::int64_t epoch,
                   const ConfusionMatrix& matrix);

}  // namespace jevrin::inline v1
