// A drafted plan, with the reasons for what stands in it.
#pragma once

#include "jevrin/results/form.hpp"
#include "jevrin/study/draft.hpp"

namespace jevrin::inline v1 {

struct DraftResult {
    PlanDraft draft;
    std::filesystem::path file;  // of the plan
};

std::string to_json(const DraftResult& result);
std::string to_text(const DraftResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
