// The choice with its evidence, and its test scores when they were requested.
#pragma once

#include "jevrin/comparison/choice.hpp"
#include "jevrin/comparison/test_report.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"

namespace jevrin::inline v1 {

struct ChoiceQuery {
    std::vector<std::string> runs = {};  // candidates, or runs, to choose among; none: all
    Cost cost = ChoiceSettings{}.cost;
    ChoiceRule rule = ChoiceSettings{}.rule;
    std::optional<double> margin = {};  // none: the study's
    bool pairs = false;                 // every candidate against every other, too
    // The chosen one is scored on the test part: this opens the sealed part, and the ledger records it.
    bool test = false;
};

struct ChoiceResult {
    StudyRecord study;
    Choice choice;
    std::optional<TestReport> test;
    bool with_pairs = false;
    std::string uncounted_look;  // why the ledger could not count this look; empty: it did, or need not

    std::string title() const;
};
// Looks at studies of which all runs are trained are counted in the ledger by their number of seeds: whoever
// adds seeds until a difference is clear looks several times (SeedLooks).
ChoiceResult report_choice(const Ledger& ledger, const StudyRecord& study, const ChoiceQuery& query = {},
                           const PredictionProgress& progress = {}, const PairProgress& comparing = {});

std::string to_json(const ChoiceResult& result);
// The ranking.
ResultTable to_table(const ChoiceResult& result);
std::string to_text(const ChoiceResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
