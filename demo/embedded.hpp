// The plan and the backbone of the demo, inside the tool.
#pragma once

#include <string_view>

namespace jevrin::demo {

std::string_view glaze_plan();
std::string_view backbone_model();

}  // namespace jevrin::demo
