// Items across runs: those that all runs misclassify, those that only one regime classifies correctly, and
// the agreement between runs.
#pragma once

#include "jevrin/comparison/evidence.hpp"

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct AgreedItem {
    ItemNumber item;
    std::size_t label = 0;
    std::int64_t runs = 0;     // that saw it
    std::int64_t correct = 0;  // of them
    std::vector<double>
        correct_fraction;            // by regime, as in Agreement::regimes; NaN when none of its runs saw it
    std::size_t most_predicted = 0;  // the class that most runs give it; of equal ones the first
    std::int64_t most_predicted_runs = 0;  // by so many
};

struct Agreement {
    std::vector<Regime> regimes;
    std::vector<std::string> candidates;
    std::vector<AgreedItem> items;  // the ones that fewest runs predict correctly first
    // By pair of candidates, means over pairs of their runs (of two different runs on the diagonal) and over
    // the items that both saw: the fraction predicted alike, and that beyond chance (Cohen 1960). NaN when
    // there is no such pair.
    std::vector<std::vector<double>> alike;
    std::vector<std::vector<double>> kappa;
};

// Over the runs of the evidence and the validation items that at least one of them saw.
Agreement agree(const StudyEvidence& evidence);

enum class ItemGroup {
    missed,       // no run is correct
    known,        // all are
    disputed,     // some are
    only_regime,  // in one regime more than half of the runs are correct, in each other at most half
};

// Places in agreement.items, in their order. regime: with only_regime, which one; any without one.
// InputError when no run has the regime.
std::vector<std::size_t> items_in(const Agreement& agreement, ItemGroup group,
                                  std::optional<Regime> regime = std::nullopt);

}  // namespace jevrin::inline v1
