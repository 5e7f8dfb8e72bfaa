// Selects and orders items: of a cell of the confusion matrix, of a class.
#pragma once

#include "jevrin/metrics/predictions.hpp"

#include <cstdint>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {

enum class ItemOutcome { wrong, correct, all };

// confidence: the surest mistakes first, then correct items, the least sure first. loss: the lowest
// probability of the label first. random: an order drawn from the seed.
enum class ItemOrder { confidence, loss, random };

struct ItemSelection {
    ItemOutcome outcome = ItemOutcome::wrong;
    std::optional<std::size_t> true_class = {};
    std::optional<std::size_t> predicted = {};  // the class they were predicted as
    ItemOrder order = ItemOrder::confidence;
    std::uint64_t seed = 1;
};

// Rows of the table.
std::vector<std::size_t> select_items(const PredictionTable& table, const ItemSelection& selection);

}  // namespace jevrin::inline v1
