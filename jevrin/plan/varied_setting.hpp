// What makes a candidate a variant of another.
#pragma once

#include <string>
#include <vector>

namespace jevrin::inline v1 {

// A setting of a variant, by its path below the candidate, and what it is as text: "learning_rate", "0.03".
struct VariedSetting {
    std::string path;
    std::string value;
};

// "learning_rate 0.03, dropout 0.2": settings by their last key, or as much of the path as distinguishes
// them.
std::string describe(const std::vector<VariedSetting>& settings);

}  // namespace jevrin::inline v1
