// The check of a plan: the network and the cost of each candidate.
#pragma once

#include "jevrin/results/form.hpp"
#include "jevrin/study/check.hpp"

namespace jevrin::inline v1 {

struct CheckResult {
    Plan plan;  // with what it left open settled
    std::size_t classes = 0;
    PlanCheck check;
    std::vector<std::string> notes;  // what to know of the images: some left out, classes in few parts
    std::string candidate;           // whose layers the text and the figure show; empty: all, and the first
    bool all_layers = false;         // in the text, however many there are

    // The candidate that a figure shows.
    const CandidateCheck& shown() const;
    std::string figure_title() const;
};
// check_plan(). InputError for a candidate that there is not.
CheckResult report_check(const Materials& materials, const std::string& candidate = "");

std::string to_json(const CheckResult& result);
std::string to_text(const CheckResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
