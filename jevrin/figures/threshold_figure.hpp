// Curves of thresholds as a figure.
#pragma once

#include "jevrin/metrics/threshold_curves.hpp"

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// One class against the rest.
struct NamedCurve {
    std::string name;
    ThresholdCurve curve;
    std::optional<ThresholdPoint> chosen = {};  // marked by a ring
};

// Three panels: precision over recall, the ROC curve, and the accuracy of what is answered over how much is.
// Up to eight curves have a colour and a name each; more are drawn in grey, with the first eight in colour.
void draw_thresholds(const std::vector<NamedCurve>& curves, const std::vector<CoveragePoint>& coverage,
                     const std::optional<CoveragePoint>& chosen, const std::string& title,
                     const std::filesystem::path& file);

}  // namespace jevrin::inline v1
