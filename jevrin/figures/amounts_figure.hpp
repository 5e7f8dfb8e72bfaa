// Learning curves over the amount of data as a picture.
#pragma once

#include "jevrin/comparison/amounts.hpp"

#include <filesystem>
#include <string>

namespace jevrin {

// Scores with their intervals over the number of training items, on a scale of doublings; one colour per
// curve, the regime's mark on its points. The sentences of the report stand below.
void draw_amounts(const AmountReport& report, Metric metric, const std::string& title,
                  const std::filesystem::path& file);

}  // namespace jevrin
