// Compares two ledgers, study by study and run by run.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct RunPair {
    std::string study;
    std::string run;
    bool in_first = false;
    bool in_second = false;
    std::vector<std::string> differing;  // settings, by path, that are not the same in both
    std::optional<double> first;  // of the study's metric at the best epoch; none: no epoch is finished
    std::optional<double> second;

    bool same_settings() const { return in_first && in_second && differing.empty(); }
};

// Runs that stand in either, by study and name; in the order of the first ledger, then what only the second
// has.
std::vector<RunPair> compare_ledgers(const Ledger& first, const Ledger& second);

}  // namespace jevrin::inline v1
