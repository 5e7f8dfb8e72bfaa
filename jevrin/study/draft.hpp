// A first plan for images that nobody has written one for: the three regimes with small grids of equal size,
// each choice with its reason, and as many epochs as a time budget allows.
#pragma once

#include "jevrin/plan/plan.hpp"
#include "jevrin/study/check.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct DraftSettings {
    ImageSource images;
    std::vector<std::filesystem::path> backbones = {};  // ONNX files
    double hours = 1.0;                                 // for all runs together, on this machine
    std::filesystem::path file;                         // of the plan: its paths begin beside it
};

// One choice, as it stands in the plan.
struct DraftReason {
    std::string key;  // "images.size"
    std::string value;
    std::string reason;
};

struct PlanDraft {
    std::string text;  // an ordinary plan, the reasons as comments
    Plan plan;         // what parse_plan() makes of it
    std::vector<DraftReason> reasons;
    PlanCheck check;                 // with its estimate of the time
    std::vector<std::string> notes;  // what to look at before it is used
};

// Reads the images, loads the backbones, and times one real batch of each candidate; writes no file.
// InputError for everything that check_plan() refuses.
PlanDraft draft_plan(const DraftSettings& settings, const MaterialsProgress& progress = {});

}  // namespace jevrin::inline v1
