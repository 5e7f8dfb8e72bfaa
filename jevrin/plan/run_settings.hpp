// Everything that the results of a run depend on besides its seed: the plan with all defaults,
// and what depends on images and backbone.
#pragma once

#include "jevrin/plan/plan.hpp"

#include <string>
#include <string_view>

namespace jevrin::inline v1 {

struct RunImages {
    ImagesPlan plan;          // without its source
    std::string fingerprint;  // of the image set
};

struct RunSettings {
    Candidate candidate;   // without its name
    std::string features;  // the node of the backbone whose value is the feature; empty: found by itself
    RunImages images;
    Metric metric = Metric::balanced_accuracy;
    std::string backbone;  // hash of what it computes with; empty: none
    Scaling scaling;
};

// The part of the settings that the plan determines, without images and backbone.
RunSettings settings_of(const Plan& plan, const Candidate& candidate);

// All settings as JSON, defaults included: what the ledger shows.
std::string to_text(const RunSettings& settings);
// What identifies a run among those of its candidate, seed and fold: {"version": 1, ...} with only the
// settings that differ from their defaults, so that a key that is added later changes no identity.
std::string identity_of(const RunSettings& settings);

// Reads what to_text() writes, now or in an earlier version. InputError with the key that is invalid.
RunSettings parse_settings(std::string_view text);

}  // namespace jevrin::inline v1
